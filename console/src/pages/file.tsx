import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api";
import { useMay } from "../asks";
import { useDraft } from "../draft";
import { count } from "../format";
import { Button, Card, Empty, Fault, inputLook, Page } from "../ui";

/** FilePage is the settings of the site as a file. */
export function FilePage() {
  const q = useQuery({
    queryKey: ["estate"],
    queryFn: () => ask(api.GET("/estate")),
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  return (
    <Page crumbs={<Link to="/sites">Sites</Link>} title="Settings as a file">
      <Fault of={q.error} />
      {q.data && <Editor key={q.dataUpdatedAt} saved={q.data.text} />}
    </Page>
  );
}

function Editor({ saved }: { saved: string }) {
  const may = useMay();
  const qc = useQueryClient();
  const draft = useDraft("estate", saved);
  const [drop, setDrop] = useState(false);
  const look = useMutation({
    mutationFn: () => ask(api.POST("/estate", { body: { text: draft.value, dryRun: true } })),
  });
  const act = useMutation({
    mutationFn: () => ask(api.POST("/estate", { body: { text: draft.value, dropPoints: drop } })),
    onSuccess: (v) => {
      if (!v.applied) return;
      draft.drop();
      qc.invalidateQueries();
    },
  });
  const v = act.data ?? look.data;
  const drops = v?.documents.reduce((n, d) => n + d.dropsPoints, 0) ?? 0;
  const type = (text: string) => {
    draft.set(text);
    look.reset();
    act.reset();
  };
  return (
    <div className="grid items-start gap-4 xl:grid-cols-2">
      <Card
        title="File"
        aside={draft.changed ? "edited, not applied yet" : "what kestrel export writes: keep it in version control"}
      >
        <div className="grid gap-3 p-4">
          <textarea
            aria-label="Settings as a file"
            spellCheck={false}
            rows={32}
            className={`${inputLook} font-mono text-xs`}
            value={draft.value}
            onChange={(e) => type(e.target.value)}
          />
          <div className="flex flex-wrap gap-2">
            <Button disabled={look.isPending || !draft.changed} onClick={() => look.mutate()}>
              What would it change?
            </Button>
            {may.administer && (
              <Button
                kind="main"
                disabled={!look.data || look.data.faults.length > 0 || act.isPending || (drops > 0 && !drop)}
                title={look.data ? undefined : "Look first at what it would change."}
                onClick={() => act.mutate()}
              >
                Apply
              </Button>
            )}
            <Button disabled={!draft.changed} onClick={draft.drop}>
              Give it up
            </Button>
          </div>
          {drops > 0 && !act.data && (
            <label className="flex items-center gap-2 text-over-ink">
              <input type="checkbox" checked={drop} onChange={(e) => setDrop(e.target.checked)} />
              Drop {count(drops, "point")} at once
            </label>
          )}
        </div>
      </Card>
      <Card title={act.data?.applied ? "Applied" : "What it would change"}>
        <Fault of={look.error ?? act.error} />
        {!v && <Empty>Edit the file, and look at what it would change. All of it is applied, or nothing.</Empty>}
        {v && <Outcome v={v} />}
      </Card>
    </div>
  );
}

function Outcome({ v }: { v: Schemas["Applied"] }) {
  const moved = v.documents.filter((d) => d.action !== "as it is");
  return (
    <div className="grid gap-2 p-4">
      {v.faults.map((f) => (
        <div key={`${f.line} ${f.column} ${f.message}`} className="text-over-ink">
          ✕ line {f.line}, column {f.column}: {f.message}
        </div>
      ))}
      {!v.faults.length && !moved.length && <div className="text-muted">Nothing: all is as the file says.</div>}
      {moved.map((d) => (
        <div key={`${d.kind} ${d.name}`}>
          <strong>
            {d.action === "make" ? "+" : "~"} {d.kind} {d.name}
          </strong>
          {d.changes.map((c) => (
            <div key={c.field} className="break-words text-xs">
              {c.field}: {c.from} → {c.to}
            </div>
          ))}
          {d.warnings.map((w) => (
            <div key={w} className="text-tight-ink text-xs">
              ◆ {w}
            </div>
          ))}
          {d.dropsPoints > 0 && (
            <div className="text-over-ink text-xs">✕ drops {count(d.dropsPoints, "point")} at once</div>
          )}
        </div>
      ))}
    </div>
  );
}
