import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { when } from "../format";
import { Button, Card, Fault, Field, inputLook, Page } from "../ui";

const roles = [
  ["viewer", "Viewer", "sees everything, changes nothing"],
  ["operator", "Operator", "runs, pauses, pins, serves and lands"],
  ["administrator", "Administrator", "everything"],
] as const;

export function AccessPage() {
  return (
    <Page title="Access">
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <PeopleCard />
        <TokensCard />
      </div>
    </Page>
  );
}

function RoleSelect({ value, onChange, label }: { value: string; onChange: (role: string) => void; label?: string }) {
  return (
    <select
      aria-label={label}
      className={`${inputLook} min-w-38`}
      value={value}
      onChange={(e) => onChange(e.target.value)}
      title={roles.find((r) => r[0] === value)?.[2]}
    >
      {roles.map(([v, text]) => (
        <option key={v} value={v}>
          {text}
        </option>
      ))}
    </select>
  );
}

const tagsOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);

/** People sign in; each has a role, which may be limited to groups with a tag. */
function PeopleCard() {
  const qc = useQueryClient();
  const [role, setRole] = useState("operator");
  const [tags, setTags] = useState("");
  const q = useQuery(asks.people);
  const again = () => qc.invalidateQueries({ queryKey: ["people"] });
  const invite = useMutation({
    mutationFn: () => ask(api.POST("/people", { body: { role, tags: tagsOf(tags) } })),
  });
  const edit = useMutation({
    mutationFn: (x: { id: string; role: string }) =>
      ask(api.PATCH("/people/{id}", { params: { path: { id: x.id } }, body: { role: x.role } })),
    onSettled: again,
  });
  const remove = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/people/{id}", { params: { path: { id } } })),
    onSettled: again,
  });
  const p = invite.error instanceof Problem ? invite.error : undefined;
  return (
    <Card title="People" aside="who may sign in">
      <ul>
        {q.data?.map((x) => (
          <li key={x.id} className="flex items-center justify-between gap-2 border-line border-b px-4 py-2">
            <span>
              <strong>{x.name}</strong>{" "}
              <span className="text-muted text-xs">
                since {when(x.createdAt)} · {x.tags.length ? `groups tagged ${x.tags.join(", ")}` : "all groups"}
              </span>
            </span>
            <span className="flex items-center gap-2">
              <RoleSelect
                label={`Role of ${x.name}`}
                value={x.role}
                onChange={(r) => edit.mutate({ id: x.id, role: r })}
              />
              <Button kind="danger" onClick={() => remove.mutate(x.id)}>
                Remove
              </Button>
            </span>
          </li>
        ))}
      </ul>
      <form
        className="grid gap-2 px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault();
          invite.mutate();
        }}
      >
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="Somebody new joins as" hint={roles.find((r) => r[0] === role)?.[2]} faults={p?.at("role")}>
            {() => <RoleSelect label="Role of somebody new" value={role} onChange={setRole} />}
          </Field>
          <Field label="Only for groups tagged" hint="Leave empty for all groups." faults={p?.at("tags")}>
            {(id) => <input id={id} className={inputLook} value={tags} onChange={(e) => setTags(e.target.value)} />}
          </Field>
        </div>
        {invite.data && (
          <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
            Good once, until {when(invite.data.expiresAt)}. Shown once:{" "}
            <code className="select-all break-all">{invite.data.link}</code>
          </div>
        )}
        <Fault of={q.error ?? edit.error ?? remove.error ?? (p && !p.errors.length ? p : undefined)} />
        <Button type="submit" className="justify-self-start" disabled={invite.isPending}>
          Make a one-time link
        </Button>
      </form>
    </Card>
  );
}

/** Tokens are for programs and the command line; a secret is shown once. */
function TokensCard() {
  const qc = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState("viewer");
  const q = useQuery(asks.tokens);
  const again = () => qc.invalidateQueries({ queryKey: ["tokens"] });
  const make = useMutation({
    mutationFn: () => ask(api.POST("/tokens", { body: { name, days: 365, role } })),
    onSuccess: () => {
      setName("");
      again();
    },
  });
  const revoke = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/tokens/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const p = make.error instanceof Problem ? make.error : undefined;
  return (
    <Card title="API tokens" aside="for programs and the command line">
      <ul>
        {q.data?.map((t) => (
          <li key={t.id} className="flex items-center justify-between gap-2 border-line border-b px-4 py-2">
            <span>
              <strong>{t.name}</strong>{" "}
              <span className="text-muted text-xs">
                {t.role} · of {t.person} · made {when(t.createdAt)} · used {when(t.lastUsedAt)} ·{" "}
                {t.expiresAt ? `ends ${when(t.expiresAt)}` : "no end"}
              </span>
            </span>
            <Button onClick={() => revoke.mutate(t.id)}>Revoke</Button>
          </li>
        ))}
      </ul>
      <form
        className="grid gap-2 px-4 py-3"
        onSubmit={(e) => {
          e.preventDefault();
          make.mutate();
        }}
      >
        <div className="grid gap-3 sm:grid-cols-2">
          <Field label="New token for" hint="What will use it; good for a year." faults={p?.at("name")}>
            {(id) => <input id={id} className={inputLook} value={name} onChange={(e) => setName(e.target.value)} />}
          </Field>
          <Field label="Which may act as" hint="Never more than its person may." faults={p?.at("role")}>
            {() => <RoleSelect label="Role of the token" value={role} onChange={setRole} />}
          </Field>
        </div>
        {make.data && (
          <div className="rounded bg-good-bg px-2.5 py-1.5 text-good-ink text-xs">
            Shown once: <code className="select-all break-all">{make.data.secret}</code>
          </div>
        )}
        <Fault of={revoke.error ?? (p && !p.at("name").length ? p : undefined)} />
        <Button type="submit" className="justify-self-start" disabled={make.isPending}>
          Make a token
        </Button>
      </form>
    </Card>
  );
}
