import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api";
import { count, size } from "../format";
import { Button, Card, th, When } from "../ui";

/** How many disks are listed before somebody asks for all. */
const few = 8;

/** Carried tells what the cycles of a group came to over some days, disk by disk. */
export function Carried({ id, days }: { id: string; days: number }) {
  const [all, setAll] = useState(false);
  const q = useQuery({
    queryKey: ["cycles", id, "carried", days],
    queryFn: () =>
      ask(
        api.GET("/groups/{id}/carried", {
          params: { path: { id }, query: { since: new Date(Date.now() - days * 86400_000).toISOString() } },
        }),
      ),
    refetchInterval: 60_000,
    placeholderData: keepPreviousData,
  });
  const v = q.data;
  if (!v?.disks.length) return null;
  const most = Math.max(...v.disks.map((d) => d.changedBytes), 1);
  return (
    <Card
      title="By machine and disk"
      aside={
        <span>
          {count(v.cycles, "cycle")} since <When at={v.from} />
        </span>
      }
    >
      <div className="overflow-x-auto">
        <table className="w-full" aria-label="What cycles came to, by machine and disk">
          <thead>
            <tr>
              <th className={th}>Machine and disk</th>
              <th className={`${th} text-right`}>Changed</th>
              <th className={`${th} text-right`}>New there</th>
              <th className={`${th} text-right`}>Sent</th>
              <th className={`${th} text-right`}>Ratio</th>
            </tr>
          </thead>
          <tbody>
            {(all ? v.disks : v.disks.slice(0, few)).map((d) => (
              <tr key={`${d.machine}/${d.disk}`} className="border-line border-t">
                <td className="px-4 py-2">
                  {d.name} <span className="text-muted">{d.label}</span>
                  <div className="mt-1 h-1 rounded-sm bg-still-bg" aria-hidden="true">
                    <div className="h-1 rounded-sm bg-water" style={{ width: `${(d.changedBytes / most) * 100}%` }} />
                  </div>
                </td>
                <td className="whitespace-nowrap px-4 py-2 text-right">{size(d.changedBytes)}</td>
                <td className="whitespace-nowrap px-4 py-2 text-right">{size(d.shippedBytes)}</td>
                <td className="whitespace-nowrap px-4 py-2 text-right">{size(d.wireBytes)}</td>
                <td className="whitespace-nowrap px-4 py-2 text-right text-muted">
                  {d.wireBytes > 0 && d.shippedBytes > 0 ? `${(d.shippedBytes / d.wireBytes).toFixed(1)} : 1` : "—"}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {v.disks.length > few && !all && (
        <div className="border-line border-t px-4 py-2">
          <Button small onClick={() => setAll(true)}>
            All {v.disks.length} disks
          </Button>
        </div>
      )}
    </Card>
  );
}
