import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { useAddress } from "../address";
import { api, ask, type Schemas } from "../api";
import { count } from "../format";
import { type Column, RowTable, useBefore } from "../table";
import { Button, Card, Fault, Find, inputLook, Page, When } from "../ui";

type Line = Omit<Schemas["Activity"], "id"> & { id: string };

const columns: Column<Line>[] = [
  { id: "at", head: "When", look: "whitespace-nowrap text-muted", cell: (a) => <When at={a.at} /> },
  {
    id: "who",
    head: "Who",
    look: "whitespace-nowrap",
    cell: (a) => (
      <>
        {a.who}
        <div className="text-muted text-xs">
          {[a.actor === a.who ? "" : a.actor, a.origin].filter(Boolean).join(" · ")}
        </div>
      </>
    ),
  },
  { id: "what", head: "What", cell: (a) => <What a={a} /> },
];

const kinds = [
  "group",
  "point",
  "person",
  "token",
  "link",
  "platform",
  "operation",
  "landing",
  "store",
  "safeguards",
  "consent",
];

/** span is a day here, from its first moment to the next one's. */
function span(day: string): { since?: string; until?: string } {
  const from = new Date(`${day}T00:00`);
  if (!day || Number.isNaN(from.getTime())) return {};
  const to = new Date(from);
  to.setDate(to.getDate() + 1);
  return { since: from.toISOString(), until: to.toISOString() };
}

const few = 4;

/** What tells what was done, and what it changed from what to what. Who did it has a column of its own. */
function What({ a }: { a: Line }) {
  const [all, setAll] = useState(false);
  const text = a.text.startsWith(`${a.who} `) ? a.text.slice(a.who.length + 1) : a.text;
  const made = a.changes.some((c) => c.field === "name" && !c.from);
  const shown = all ? a.changes : made ? [] : a.changes.slice(0, few);
  return (
    <>
      {a.kind === "group" && a.object ? (
        <Link to={`/groups/${a.object}`} className="hover:underline">
          {text}
        </Link>
      ) : (
        text
      )}
      {shown.map((c) => (
        <div key={c.field} className="text-muted text-xs">
          {c.field}: {c.from || "—"} → <span className="text-ink">{c.to || "—"}</span>
        </div>
      ))}
      {shown.length < a.changes.length && (
        <button type="button" className="block cursor-pointer text-link text-xs" onClick={() => setAll(true)}>
          {made ? "with what settings?" : `and ${a.changes.length - shown.length} more`}
        </button>
      )}
    </>
  );
}

/** Verdict tells what the trail was found to be. */
function Verdict({ v }: { v: Schemas["TrailVerdict"] }) {
  return (
    <div
      role="status"
      className={`rounded-md border px-3 py-2 ${v.ok ? "border-line bg-card" : "border-over bg-over-bg text-over-ink"}`}
    >
      {v.ok
        ? `✓ ${count(v.lines, "line")} follow from one another; nothing was changed, left out or cut off.`
        : "✕ The trail does not hold."}
      {v.faults.map((f) => (
        <div key={f}>{f}</div>
      ))}
      <div className="text-muted text-xs">
        Signed here {v.signedHeads === 1 ? "once" : `${v.signedHeads} times`}.{" "}
        {v.witnesses
          .map((w) => `${w.site} ${w.error ? `could not be asked: ${w.error}.` : `holds ${w.heads} of them.`}`)
          .join(" ")}
        {v.unchained > 0 && ` ${count(v.unchained, "line")} from before lines were chained: nobody vouches for them.`}
      </div>
    </div>
  );
}

export function ActivityPage() {
  const [at, set] = useAddress();
  const [q, kind, by, day] = [at("q"), at("kind"), at("by"), at("day")];
  const narrowed = q || kind || by || day;
  const list = useBefore<Line>("activity", { q, kind, by, day }, 15_000, async (limit, before) => {
    const query = { limit, before, q: q || undefined, kind: kind || undefined, by: by || undefined, ...span(day) };
    const lines = await ask(api.GET("/activity", { params: { query } }));
    return lines.map((a) => ({ ...a, id: String(a.id) }));
  });
  const verify = useMutation({ mutationFn: () => ask(api.GET("/activity/verification")) });
  return (
    <Page
      title="Activity"
      actions={
        <Button
          disabled={verify.isPending}
          title="Goes through all lines, and holds them against what this site signed and others hold"
          onClick={() => verify.mutate()}
        >
          {verify.isPending ? "Verifying…" : "Verify the trail"}
        </Button>
      }
    >
      <Fault of={list.error} />
      <Fault of={verify.error} />
      {verify.data && <Verdict v={verify.data} />}
      <Card>
        <div className="flex flex-wrap items-center gap-3 border-line border-b p-3">
          <Find label="Find in the activity" hint="Find by name, group or words" value={q} onFind={(q) => set({ q })} />
          <Find label="Who did it" hint="Who, or site, host, token" narrow value={by} onFind={(by) => set({ by })} />
          <select
            aria-label="What it is about"
            className={`${inputLook} max-w-40`}
            value={kind}
            onChange={(e) => set({ kind: e.target.value })}
          >
            <option value="">everything</option>
            {kinds.map((k) => (
              <option key={k}>{k}</option>
            ))}
          </select>
          <input
            type="date"
            aria-label="On the day"
            className={`${inputLook} max-w-40`}
            value={day}
            onChange={(e) => set({ day: e.target.value })}
          />
        </div>
        <RowTable
          label="Activity"
          columns={columns}
          list={list}
          none={narrowed ? "Nothing fits." : "Nothing has happened yet."}
        />
      </Card>
    </Page>
  );
}
