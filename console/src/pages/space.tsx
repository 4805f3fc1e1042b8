import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { api, ask, type Schemas } from "../api";
import { count, size } from "../format";
import { Bar, Card, Heads, td, When } from "../ui";

type Space = Schemas["StoreSpace"];

const less = (of: number, left: number) =>
  of > 0 && left < of ? `${Math.round((100 * (of - left)) / of)} % less` : "";

/** SpaceCards tell whose the room of each store is. */
export function SpaceCards() {
  const q = useQuery({
    queryKey: ["space"],
    queryFn: () => ask(api.GET("/store/space")),
    refetchInterval: 30_000,
  });
  return q.data?.filter((x) => x.groups.length > 0).map((x) => <SpaceCard key={x.store} x={x} />);
}

function SpaceCard({ x }: { x: Space }) {
  const [all, setAll] = useState(false);
  const groups = all ? x.groups : x.groups.slice(0, 8);
  const row = "grid grid-cols-[150px_90px_minmax(0,1fr)] gap-x-3 items-center";
  const top = Math.max(1, x.wholeBytes);
  return (
    <Card title={`Whose room it is in ${x.store}`} aside={<When at={x.lookedAt} />}>
      <div className="grid gap-1 px-4 py-3">
        {(
          [
            ["Whole copies", x.wholeBytes, ""],
            ["Each block once", x.blockBytes, less(x.wholeBytes, x.blockBytes)],
            ["As stored", x.neededBytes, less(x.blockBytes, x.neededBytes)],
          ] as const
        ).map(([text, n, saved]) => (
          <div key={text} className={row}>
            <span className="text-muted">{text}</span>
            <span className="text-right font-medium">{size(n)}</span>
            <span className="grid grid-cols-[minmax(0,1fr)_70px] items-center gap-2">
              <Bar share={n / top} label={`${text}: ${size(n)}`} />
              <span className="whitespace-nowrap text-muted text-xs">{saved}</span>
            </span>
          </div>
        ))}
        {x.packBytes > 1.01 * x.neededBytes && (
          <p className="text-muted text-xs">
            The packs hold {size(x.packBytes - x.neededBytes)} more that no point needs; that is given back little by
            little.
          </p>
        )}
        {x.unread && (
          <p className="text-tight-ink text-xs">◆ Parts of some points could not be looked at, and are not counted.</p>
        )}
      </div>
      <table className="w-full">
        <Heads of={["Group", "Points", "As stored", "Deleting gives back"]} />
        <tbody>
          {groups.map((g) => (
            <tr key={g.id} className="border-line border-t">
              <td className={td}>
                {g.name.startsWith("carried") ? (
                  g.name
                ) : (
                  <Link to={`/groups/${g.id}`} className="font-semibold text-link">
                    {g.name}
                  </Link>
                )}
                {g.machines.length > 1 && (
                  <details className="text-muted text-xs">
                    <summary className="cursor-pointer">{count(g.machines.length, "machine")}</summary>
                    <ul>
                      {g.machines.map((m) => (
                        <li key={m.id}>
                          {m.name}: {size(m.aloneBytes)} needed by it alone
                        </li>
                      ))}
                    </ul>
                  </details>
                )}
              </td>
              <td className={td}>{g.points}</td>
              <td className={td}>{size(g.neededBytes)}</td>
              <td className={td}>{size(g.aloneBytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {x.groups.length > 8 && (
        <button type="button" className="cursor-pointer px-4 py-2 text-link" onClick={() => setAll(!all)}>
          {all ? "Show fewer" : `Show all ${x.groups.length}`}
        </button>
      )}
    </Card>
  );
}
