import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask } from "../api";
import { asks } from "../asks";
import { count, size } from "../format";
import { Card, Empty, Fault, inputLook, Page, td, th } from "../ui";

export function MachinesPage() {
  const [q, setQ] = useState("");
  const [power, setPower] = useState("");
  const [protection, setProtection] = useState("");
  const [platform, setPlatform] = useState("");
  const all = useQuery({
    queryKey: ["machines", q, power, protection, platform],
    queryFn: () =>
      ask(
        api.GET("/machines", {
          params: {
            query: {
              q: q || undefined,
              power: power || undefined,
              protection: protection || undefined,
              platform: platform || undefined,
            },
          },
        }),
      ),
    placeholderData: (d) => d,
    refetchInterval: 15_000,
  });
  const platforms = useQuery(asks.platforms);
  const select = `${inputLook} !w-auto`;
  return (
    <Page title="Machines">
      <Fault of={all.error} />
      <Card>
        <div className="flex flex-wrap gap-2 border-line border-b p-3">
          <input
            aria-label="Find machines"
            placeholder="Find by name, folder, tag, host or address"
            className={`${inputLook} max-w-80`}
            value={q}
            onChange={(e) => setQ(e.target.value)}
          />
          <select
            aria-label="Platform"
            className={select}
            value={platform}
            onChange={(e) => setPlatform(e.target.value)}
          >
            <option value="">Any platform</option>
            {platforms.data?.map((p) => (
              <option key={p.id} value={p.id}>
                {p.name}
              </option>
            ))}
          </select>
          <select aria-label="Power" className={select} value={power} onChange={(e) => setPower(e.target.value)}>
            <option value="">On or off</option>
            <option value="on">On</option>
            <option value="off">Off</option>
            <option value="suspended">Suspended</option>
          </select>
          <select
            aria-label="Protection"
            className={select}
            value={protection}
            onChange={(e) => setProtection(e.target.value)}
          >
            <option value="">Protected or not</option>
            <option value="protected">Protected</option>
            <option value="none">Not protected</option>
            <option value="cannot">Cannot be protected</option>
          </select>
          <span className="self-center text-muted text-xs">{count(all.data?.length ?? 0, "machine")}</span>
        </div>
        {platforms.data && !platforms.data.length ? (
          <Empty
            action={
              <Link to="/platforms" className="font-semibold text-link">
                Add a platform →
              </Link>
            }
          >
            Machines come from a platform. Add one first.
          </Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead>
                <tr>
                  <th className={th}>Machine</th>
                  <th className={th}>Power</th>
                  <th className={`${th} text-right`}>CPUs · memory</th>
                  <th className={th}>Disks</th>
                  <th className={th}>Network</th>
                  <th className={th}>Protection</th>
                </tr>
              </thead>
              <tbody>
                {all.data?.map((m) => (
                  <tr key={m.id} className="border-line border-t">
                    <td className={`${td} whitespace-nowrap`}>
                      <div className="font-semibold">{m.name}</div>
                      <div className="text-muted text-xs">{[m.folder, ...m.tags].join(" · ")}</div>
                    </td>
                    <td className={`${td} whitespace-nowrap`}>
                      {m.power === "on" ? "● on" : m.power === "suspended" ? "‖ suspended" : `○ ${m.power}`}
                    </td>
                    <td className={`${td} whitespace-nowrap text-right`}>
                      {m.cpus} · {size(m.memoryBytes)}
                      <div className="text-muted text-xs">{m.guest}</div>
                    </td>
                    <td className={`${td} whitespace-nowrap`}>
                      {m.disks.map((d) => (
                        <div key={d.key}>
                          {d.label} {size(d.usedBytes)}{" "}
                          <span className="text-muted text-xs">
                            of {size(d.sizeBytes)} · {d.datastore}
                          </span>
                          {d.untrackable && (
                            <span className="ml-1.5 text-over-ink text-xs" title={`${d.untrackable} ${d.mend ?? ""}`}>
                              ✕ changes cannot be tracked
                            </span>
                          )}
                        </div>
                      ))}
                      {!m.disks.length && <span className="text-muted">none</span>}
                    </td>
                    <td className={td}>
                      {m.nics.map((n) => (
                        <div key={n.mac}>
                          {n.address || <span className="text-muted">{n.mac}</span>}
                          <div className="text-muted text-xs">{n.network || "not connected"}</div>
                        </div>
                      ))}
                    </td>
                    <td className={`${td} min-w-36`}>
                      {m.group ? (
                        <Link to={`/groups/${m.group}`} className="font-semibold text-link">
                          {m.groupName}
                        </Link>
                      ) : m.barrier ? (
                        <span className="text-xs">
                          <span className="text-over-ink">✕ {m.barrier}</span> {m.mend}
                        </span>
                      ) : (
                        <span className="text-muted">none</span>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
            {all.data && !all.data.length && <Empty>No machine fits.</Empty>}
          </div>
        )}
      </Card>
    </Page>
  );
}
