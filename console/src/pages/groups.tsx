import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { asks } from "../asks";
import { count, size, span } from "../format";
import { Button, Card, Empty, Fault, inputLook, Page, State, td, th, When } from "../ui";

export function GroupsPage() {
  const go = useNavigate();
  const [find, setFind] = useState("");
  const q = useQuery(asks.groups);
  const shown = q.data?.filter((g) =>
    `${g.name} ${g.home} ${g.recovery} ${g.health} ${g.machines.map((m) => m.name).join(" ")}`
      .toLowerCase()
      .includes(find.toLowerCase()),
  );
  return (
    <Page
      title="Groups"
      actions={
        <Button kind="main" onClick={() => go("/groups/new")}>
          New group
        </Button>
      }
    >
      <Fault of={q.error} />
      <Card>
        <div className="border-line border-b p-3">
          <input
            aria-label="Find groups"
            placeholder="Find by name, site, state or machine"
            className={`${inputLook} max-w-80`}
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
        </div>
        {q.data && !q.data.length ? (
          <Empty action={<Button onClick={() => go("/groups/new")}>Make the first group</Button>}>
            No group yet. A group is captured at one instant and has one promise.
          </Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="w-full">
              <thead>
                <tr>
                  <th className={th}>Group</th>
                  <th className={th}>Way</th>
                  <th className={th}>State</th>
                  <th className={`${th} text-right`}>Exposure</th>
                  <th className={`${th} text-right`}>Target</th>
                  <th className={`${th} text-right`}>Backlog</th>
                  <th className={`${th} text-right`}>Points</th>
                  <th className={th}>Next cycle</th>
                </tr>
              </thead>
              <tbody>
                {shown?.map((g) => (
                  <tr key={g.id} className="border-line border-t">
                    <td className={td}>
                      <Link to={`/groups/${g.id}`} className="font-semibold">
                        {g.name}
                      </Link>
                      <div className="text-muted text-xs">{count(g.machines.length, "machine")}</div>
                    </td>
                    <td className={`${td} whitespace-nowrap`}>
                      {g.home} → {g.recovery}
                    </td>
                    <td className={td}>
                      <State of={g.direction === "ended" ? "ended" : g.health} />
                    </td>
                    <td className={`${td} whitespace-nowrap text-right`}>{span(g.exposureSeconds)}</td>
                    <td className={`${td} whitespace-nowrap text-right`}>{span(g.promise.rpoTargetSeconds)}</td>
                    <td className={`${td} whitespace-nowrap text-right`}>{size(g.backlogBytes)}</td>
                    <td className={`${td} text-right`}>{g.points}</td>
                    <td className={`${td} whitespace-nowrap`}>
                      <When at={g.nextStartAt} />
                    </td>
                  </tr>
                ))}
                {shown && !shown.length && (
                  <tr>
                    <td className={`${td} text-muted`} colSpan={8}>
                      Nothing fits “{find}”.
                    </td>
                  </tr>
                )}
              </tbody>
            </table>
          </div>
        )}
      </Card>
    </Page>
  );
}
