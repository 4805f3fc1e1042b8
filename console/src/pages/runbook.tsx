import { useState } from "react";
import type { Schemas } from "../api";
import { span } from "../format";
import { Button, Card, Empty, Field, Heads, inputLook, RowMenu, td } from "../ui";
import { type Berth, type SetBerth, said } from "./berthfields";

type Step = Schemas["BerthStep"];
type Key = keyof Step;

/** kinds are what steps do, in words, with the fields that each needs. */
const kinds: Record<string, { word: string; fields: [Key, string, string?][] }> = {
  wait: { word: "Wait", fields: [["spanSeconds", "Seconds"]] },
  port: {
    word: "A machine takes connections",
    fields: [
      ["machine", "Machine"],
      ["port", "Port"],
    ],
  },
  http: {
    word: "An address answers",
    fields: [
      ["url", "Address", "http://machine:8080/health"],
      ["status", "Status, any below 400 if empty"],
      ["text", "Text in the answer"],
    ],
  },
  guest: {
    word: "A command in a guest",
    fields: [
      ["machine", "Machine"],
      ["command", "Command, run by its agent"],
    ],
  },
  serial: {
    word: "A text on a serial console",
    fields: [
      ["machine", "Machine"],
      ["text", "Text", "login:"],
    ],
  },
  host: { word: "A command of the host", fields: [["command", "Command of the recovery site's host"]] },
  dns: {
    word: "Change a name in the DNS",
    fields: [
      ["server", "DNS server"],
      ["record", "Name", "tickets.skerry.example"],
      ["type", "Type"],
      ["to", "Says; {MACHINE} is its address there"],
      ["ttlSeconds", "Remembered, seconds"],
    ],
  },
  message: {
    word: "Tell people",
    fields: [
      ["channels", "Channels, between commas"],
      ["text", "Text"],
    ],
  },
  person: { word: "Wait for a person", fields: [["text", "What they are asked"]] },
};

const failures: Record<string, string> = {
  ask: "ask what now",
  "go-on": "note it and go on",
  stop: "stop a failover, end a drill",
};
const numbers: Key[] = ["spanSeconds", "port", "status", "ttlSeconds", "limitSeconds", "after"];
const lists: Key[] = ["to", "channels"];

function does(s: Step): string {
  const parts = (kinds[s.kind]?.fields ?? [])
    .map(([k]) => s[k])
    .filter((x) => x !== undefined && x !== "")
    .map((x) => (Array.isArray(x) ? x.join(", ") : String(x)));
  if (s.kind === "wait") return `Wait ${span(s.spanSeconds)}`;
  return [kinds[s.kind]?.word ?? s.kind, parts.join(" · ")].filter(Boolean).join(": ");
}

/** RunbookCard says what is done in a recovery besides the start of machines. */
export function RunbookCard(p: {
  b: Berth;
  set: SetBerth;
  choices: Schemas["BerthChoices"];
  arrivals: Schemas["BerthArrival"][];
}) {
  const [edited, setEdited] = useState<number>();
  const steps = p.b.steps ?? [];
  const put = (next: Step[]) => p.set?.(said(p.b, "steps", next));
  const at = edited === undefined ? undefined : steps[edited];
  const move = (i: number, by: number) => {
    const next = [...steps];
    const [s] = next.splice(i, 1);
    if (s) next.splice(i + by, 0, s);
    put(next);
    setEdited(undefined);
  };
  return (
    <Card title="Runbook" aside="what is done besides, in drills and failovers">
      {steps.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="Steps of the runbook">
            <Heads of={["Step", "After wave", "Does", "If it fails", "In", ""]} />
            <tbody>
              {steps.map((s, i) => (
                // biome-ignore lint/suspicious/noArrayIndexKey: a step has no ID, and its name is being typed
                <tr key={i} className={`border-line border-t ${i === edited ? "bg-still-bg/60" : ""}`}>
                  <td className={`${td} font-semibold`}>{s.name}</td>
                  <td className={td}>{s.after === 0 ? "before the first" : s.after}</td>
                  <td className={`${td} break-words`}>{does(s)}</td>
                  <td className={td}>{failures[s.onFailure ?? "ask"]}</td>
                  <td className={td}>{s.only ?? "both"}</td>
                  <td className={td}>
                    {p.set && (
                      <RowMenu
                        of={s.name}
                        items={[
                          { text: "Change", act: () => setEdited(i) },
                          {
                            text: "Earlier",
                            act: () => move(i, -1),
                            why: i === 0 ? "It is the first already." : undefined,
                          },
                          {
                            text: "Later",
                            act: () => move(i, 1),
                            why: i === steps.length - 1 ? "It is the last already." : undefined,
                          },
                          {
                            text: "Take it out",
                            act: () => {
                              put(steps.filter((_, k) => k !== i));
                              setEdited(undefined);
                            },
                          },
                        ]}
                      />
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        <Empty>
          Nothing is done besides the waves above. A step can wait, check an answer, run a command, change a name in the
          DNS, tell people, or ask one.
        </Empty>
      )}
      {at && edited !== undefined && (
        <StepFields
          s={at}
          choices={p.choices}
          arrivals={p.arrivals}
          set={(next) => put(steps.map((x, i) => (i === edited ? next : x)))}
          done={() => setEdited(undefined)}
        />
      )}
      <div className="flex flex-wrap items-center gap-3 border-line border-t px-4 py-2">
        {p.set && (
          <Button
            small
            onClick={() => {
              put([...steps, { name: `step ${steps.length + 1}`, after: 1, kind: "person" }]);
              setEdited(steps.length);
            }}
          >
            Put in a step
          </Button>
        )}
        <label className="ml-auto flex items-center gap-2 text-xs">
          <span className="text-muted">Needs these groups up first, between commas</span>
          <input
            className={`${inputLook} !w-56`}
            disabled={!p.set}
            defaultValue={(p.b.needs ?? []).join(", ")}
            onBlur={(e) => p.set?.(said(p.b, "needs", split(e.target.value)))}
          />
        </label>
      </div>
    </Card>
  );
}

const split = (text: string) =>
  text
    .split(",")
    .map((t) => t.trim())
    .filter(Boolean);

function StepFields(p: {
  s: Step;
  set: (s: Step) => void;
  done: () => void;
  choices: Schemas["BerthChoices"];
  arrivals: Schemas["BerthArrival"][];
}) {
  const enter = (key: Key, text: string) =>
    p.set(
      key === "after"
        ? { ...p.s, after: Number(text.replace(/\D/g, "")) }
        : said(
            p.s,
            key,
            numbers.includes(key) ? Number(text.replace(/\D/g, "")) : lists.includes(key) ? split(text) : text,
          ),
    );
  const options: Partial<Record<Key, string[]>> = {
    machine: p.arrivals.map((a) => a.machine),
    server: p.choices.servers,
    type: ["A", "AAAA", "CNAME"],
  };
  if (p.s.kind === "host") options.command = p.choices.commands;
  const select = (key: Key, label: string, all: [string, string][]) => (
    <Field key={key} label={label}>
      {(id) => (
        <select
          id={id}
          className={inputLook}
          value={String(p.s[key] ?? "")}
          onChange={(e) => enter(key, e.target.value)}
        >
          {all.map(([value, word]) => (
            <option key={value} value={value}>
              {word}
            </option>
          ))}
        </select>
      )}
    </Field>
  );
  const input = (key: Key, label: string, hint?: string) => (
    <Field key={key} label={label}>
      {(id) => (
        <input
          id={id}
          className={inputLook}
          placeholder={hint ?? (key === "channels" ? p.choices.channels.join(", ") : undefined)}
          defaultValue={Array.isArray(p.s[key]) ? (p.s[key] as string[]).join(", ") : String(p.s[key] ?? "")}
          onChange={(e) => enter(key, e.target.value)}
        />
      )}
    </Field>
  );
  return (
    <fieldset
      className="grid gap-3 border-line border-t bg-still-bg/40 px-4 py-3 sm:grid-cols-3"
      aria-label={`The step ${p.s.name}`}
    >
      {input("name", "Name")}
      {select(
        "kind",
        "Does",
        Object.entries(kinds).map(([k, v]) => [k, v.word]),
      )}
      {input("after", "After wave; 0 is before the first")}
      {(kinds[p.s.kind]?.fields ?? []).map(([key, label, hint]) => {
        const all = options[key];
        return all?.length ? (
          select(key, label, [["", "choose…"], ...all.map((x): [string, string] => [x, x])])
        ) : (
          <div key={p.s.kind + key}>{input(key, label, hint)}</div>
        );
      })}
      {select("onFailure", "If it fails", [
        ["", failures.ask ?? ""],
        ["go-on", failures["go-on"] ?? ""],
        ["stop", failures.stop ?? ""],
      ])}
      {select("only", "In", [
        ["", "drills and failovers"],
        ["drill", "drills only"],
        ["failover", "failovers only"],
      ])}
      {input("limitSeconds", "Within, seconds; the usual if empty")}
      <div className="flex items-end">
        <Button small onClick={p.done}>
          Done with this step
        </Button>
      </div>
    </fieldset>
  );
}

/** PlannedSteps are the steps of a plan. */
export function PlannedSteps({ of }: { of: Schemas["RunbookStep"][] }) {
  if (!of.length) return null;
  return (
    <ol className="grid gap-1">
      {of.map((s) => (
        <li key={s.name}>
          <span className="font-semibold">{s.after === 0 ? "First" : `After wave ${s.after}`}:</span> {s.name}. {s.text}{" "}
          {s.expectedSeconds !== undefined && `Took ${span(s.expectedSeconds)} the last time.`}
        </li>
      ))}
    </ol>
  );
}
