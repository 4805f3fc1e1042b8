import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, type Schemas } from "../api";
import { Button, Card, Fault, Heads, inputLook, State, td, When } from "../ui";
import { ranAfter } from "./recoveryparts";

type Step = Schemas["RunbookStep"];

/** RunbookSteps shows how far the steps of a recovery's runbook are, and takes decisions on them. */
export function RunbookSteps(p: { at: "drills" | "failovers"; id: string; of: Step[]; act: boolean }) {
  if (!p.of.length) return null;
  return (
    <Card title="Runbook" aside="what is done besides">
      <div className="overflow-x-auto">
        <table className="w-full" aria-label="Runbook">
          <Heads of={["Step", "State", "Began", "Took", "What came of it"]} />
          <tbody>
            {p.of.map((s) => (
              <tr key={s.name} className="border-line border-t">
                <td className={td}>
                  <span className="font-semibold">{s.name}</span>
                  <div className="text-muted text-xs">
                    {s.after === 0 ? "before the first wave" : `after wave ${s.after}`}
                  </div>
                </td>
                <td className={td}>
                  <State of={`step ${s.state}`} />
                </td>
                <td className={td}>{s.beganAt ? <When at={s.beganAt} /> : "—"}</td>
                <td className={`${td} whitespace-nowrap`}>{ranAfter(s.tookSeconds)}</td>
                <td className={`${td} break-words`}>
                  {s.said && s.state !== "running" && s.state !== "ahead" ? s.said : s.text}
                  {s.by && <span className="text-muted"> ({s.by})</span>}
                  {p.act && s.state !== "passed" && <Decide at={p.at} id={p.id} s={s} />}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

/** Decide says what becomes of a step. */
function Decide({ at, id, s }: { at: "drills" | "failovers"; id: string; s: Step }) {
  const qc = useQueryClient();
  const [note, setNote] = useState("");
  const m = useMutation({
    mutationFn: async (action: string): Promise<unknown> => {
      const body = { step: s.name, action, note: note || undefined };
      const params = { path: { id } };
      return at === "drills"
        ? ask(api.POST("/drills/{id}/step", { params, body }))
        : ask(api.POST("/failovers/{id}/step", { params, body }));
    },
    onSuccess: (x) => {
      qc.setQueryData([at, id], x);
      setNote("");
    },
  });
  const asks = s.kind === "person" && s.state === "running";
  const over = s.state === "failed" || s.state === "skipped";
  if (!asks && !over && s.state !== "asking" && s.state !== "running") return null;
  return (
    <div className="mt-1 flex flex-wrap items-center gap-2">
      <input
        aria-label={`Note on ${s.name}`}
        placeholder={asks ? "what the record keeps" : "why"}
        className={`${inputLook} !w-48 !py-0.5 text-xs`}
        value={note}
        onChange={(e) => setNote(e.target.value)}
      />
      {asks && (
        <>
          <Button small kind="main" disabled={m.isPending} onClick={() => m.mutate("done")}>
            It is done
          </Button>
          <Button small disabled={m.isPending || !note.trim()} onClick={() => m.mutate("failed")}>
            It failed
          </Button>
        </>
      )}
      {(s.state === "asking" || over) && (
        <Button small disabled={m.isPending} onClick={() => m.mutate("again")}>
          Do it again
        </Button>
      )}
      {!over && (
        <Button small disabled={m.isPending || !note.trim()} onClick={() => m.mutate("skip")}>
          Go on without it
        </Button>
      )}
      <Fault of={m.error} />
    </div>
  );
}
