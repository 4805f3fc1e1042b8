import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask } from "../api";
import { Card, Empty, Fault, inputLook, Page, td, th, When } from "../ui";

export function ActivityPage() {
  const [find, setFind] = useState("");
  const [limit, setLimit] = useState(100);
  const q = useQuery({
    queryKey: ["activity", find, limit],
    queryFn: () => ask(api.GET("/activity", { params: { query: { limit, q: find || undefined } } })),
    placeholderData: (d) => d,
    refetchInterval: 15_000,
  });
  return (
    <Page title="Activity">
      <Fault of={q.error} />
      <Card>
        <div className="border-line border-b p-3">
          <input
            aria-label="Find in the activity"
            placeholder="Find by name, group or words"
            className={`${inputLook} max-w-80`}
            value={find}
            onChange={(e) => setFind(e.target.value)}
          />
        </div>
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>When</th>
              <th className={th}>Who</th>
              <th className={th}>What</th>
            </tr>
          </thead>
          <tbody>
            {q.data?.map((a) => (
              <tr key={a.id} className="border-line border-t">
                <td className={`${td} whitespace-nowrap text-muted`}>
                  <When at={a.at} />
                </td>
                <td className={`${td} whitespace-nowrap`}>{a.who}</td>
                <td className={td}>{a.text}</td>
              </tr>
            ))}
          </tbody>
        </table>
        {q.data && !q.data.length && <Empty>{find ? "Nothing fits." : "Nothing has happened yet."}</Empty>}
        {q.data && q.data.length >= limit && limit < 500 && (
          <button
            type="button"
            className="cursor-pointer p-4 font-semibold text-link text-xs"
            onClick={() => setLimit(500)}
          >
            Show more
          </button>
        )}
      </Card>
    </Page>
  );
}
