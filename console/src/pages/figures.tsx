import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { useAddress } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks } from "../asks";
import { rate, span, when } from "../format";
import { Button, Card, td, th, When } from "../ui";

type Figure = Schemas["Figure"];

/** Figures sums groups up by tier, tag, other site or way. */
export function Figures() {
  const [get, set] = useAddress();
  const by = (get("by") || "tier") as "tier" | "tag" | "site" | "way";
  const q = useQuery({
    queryKey: ["figures", by],
    queryFn: () => ask(api.GET("/figures", { params: { query: { by } } })),
    refetchInterval: 10_000,
    placeholderData: (d) => d,
  });
  const v = q.data;
  if (!v?.total.groups) return null;
  const right = `${td} text-right whitespace-nowrap`;
  const cells = (x: Figure) => (
    <>
      <td className={right}>{x.groups}</td>
      <td className={`${right} [&>span]:ml-2.5`}>
        {x.over > 0 && <span className="text-over-ink">▲ {x.over} over</span>}
        {x.tight > 0 && <span className="text-tight-ink">◆ {x.tight} tight</span>}
        {x.onTarget > 0 && <span>● {x.onTarget} on target</span>}
        {x.other > 0 && <span className="text-muted">◌ {x.other} other</span>}
      </td>
      <td className={right}>
        {x.ready} of {x.groups}
      </td>
      <td className={right}>{span(x.meanExposureSeconds)}</td>
      <td className={right} title={x.worstGroup}>
        {span(x.worstExposureSeconds)}
      </td>
      <td className={right}>{x.changeBytesPerSecond ? rate(x.changeBytesPerSecond) : "—"}</td>
      <td className={right}>{x.ratio ? `${x.ratio.toFixed(1)} : 1` : "—"}</td>
    </>
  );
  return (
    <Card
      className="hidden md:block" // on a phone, the board answers whether all is fine
      title="In figures"
      aside={
        <span className="flex flex-wrap items-center gap-x-3">
          <span>
            links: out {rate(v.sendBytesPerSecond)}, in {rate(v.receiveBytesPerSecond)}
          </span>
          <select
            aria-label="Figures by"
            className="rounded-md border border-line bg-card px-2 py-1 text-ink"
            value={by}
            onChange={(e) => set({ by: e.target.value === "tier" ? "" : e.target.value })}
          >
            <option value="tier">by tier</option>
            <option value="tag">by tag</option>
            <option value="site">by other site</option>
            <option value="way">by way</option>
          </select>
        </span>
      }
    >
      <div className="overflow-x-auto">
        <table className="w-full">
          <thead>
            <tr>
              <th className={th}>{{ tier: "Tier", tag: "Tag", site: "Other site", way: "Way" }[by]}</th>
              {["Groups", "How they are", "Would recover", "Mean exposure", "Worst", "Changing", "Ratio"].map((h) => (
                <th key={h} className={`${th} text-right`}>
                  {h}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {v.rows.map((x) => (
              <tr key={x.name} className="border-line border-t">
                <td className={`${td} whitespace-nowrap font-semibold`}>{x.name}</td>
                {cells(x)}
              </tr>
            ))}
            {v.rows.length > 1 && (
              <tr className="border-line border-t bg-still-bg/40">
                <td className={td}>all</td>
                {cells(v.total)}
              </tr>
            )}
          </tbody>
        </table>
      </div>
    </Card>
  );
}

const long = 30 * 60_000; // who looked less long ago knows

/** useLooked tells when somebody looked last in this browser, before now. */
function useLooked(name: string | undefined): string | undefined {
  const [before, setBefore] = useState<string>();
  useEffect(() => {
    if (!name) return;
    const key = `looked:${name}`;
    const last = localStorage.getItem(key);
    if (last && Date.now() - Date.parse(last) > long) setBefore(last);
    const note = () => {
      if (document.visibilityState === "visible") localStorage.setItem(key, new Date().toISOString());
    };
    note();
    const every = setInterval(note, 30_000);
    return () => clearInterval(every);
  }, [name]);
  return before;
}

const tones: Record<string, [string, string]> = {
  over: ["▲", "text-over-ink"],
  tight: ["◆", "text-tight-ink"],
  good: ["●", "text-good-ink"],
  plain: ["·", ""],
};

/** Happened tells what happened since somebody last looked, until it is put away. */
export function Happened() {
  const me = useQuery(asks.me).data?.name;
  const since = useLooked(me);
  const [away, putAway] = useState(false);
  const q = useQuery({
    queryKey: ["happened", since],
    queryFn: () => ask(api.GET("/happened", { params: { query: { since: since ?? "" } } })),
    enabled: !!since && !away,
    staleTime: Number.POSITIVE_INFINITY,
    retry: false,
  });
  if (away || !q.data) return null;
  return (
    <Card
      title={`Since you last looked, ${when(q.data.from)}`}
      aside={
        <Button small onClick={() => putAway(true)}>
          Seen
        </Button>
      }
    >
      {q.data.lines.length ? (
        <ul className="grid gap-1 px-4 py-3">
          {q.data.lines.map((l) => {
            const [mark, look] = tones[l.tone] ?? ["·", ""];
            return (
              <li key={`${l.at}${l.text}`} className="grid grid-cols-[16px_104px_minmax(0,1fr)] gap-x-2">
                <span aria-hidden="true" className={look}>
                  {mark}
                </span>
                <span className="text-muted">{l.at && <When at={l.at} />}</span>
                {l.href ? (
                  <Link to={l.href} className={`hover:underline ${look}`}>
                    {l.text}
                  </Link>
                ) : (
                  <span className={look}>{l.text}</span>
                )}
              </li>
            );
          })}
        </ul>
      ) : (
        <p className="px-4 py-3 text-muted">Nothing that you would have to know.</p>
      )}
    </Card>
  );
}
