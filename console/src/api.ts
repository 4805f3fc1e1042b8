import { QueryClient, useQueryClient } from "@tanstack/react-query";
import createClient from "openapi-fetch";
import { useEffect, useState } from "react";
import type { components, paths } from "./api.gen";

export type Schemas = components["schemas"];
export type Group = Schemas["Group"];
export type Point = Schemas["Point"];
export type Cycle = Schemas["Cycle"];
export type Promise_ = Schemas["Promise"];

const client = createClient<paths>({ baseUrl: "/api/v1" });

/** Problem is what the service says went wrong (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly errors: { field: string; message: string }[],
  ) {
    super(title);
  }
  /** at gives the messages for a field, or for what lies below it. */
  at(field: string): string[] {
    return this.errors
      .filter((e) => e.field === field || e.field.startsWith(`${field}[`) || e.field.startsWith(`${field}.`))
      .map((e) => e.message);
  }
}

/** ask unwraps an answer: the data, or a Problem thrown. */
export async function ask<T>(p: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let r: { data?: T; error?: unknown; response: Response };
  try {
    r = await p;
  } catch {
    throw new Problem(0, "The service does not answer", "Nothing was changed. Check that the site is running.", []);
  }
  if (r.response.ok) return r.data as T;
  const e = (r.error ?? {}) as Partial<Schemas["Problem"]>;
  throw new Problem(r.response.status, e.title ?? r.response.statusText, e.detail ?? "", e.errors ?? []);
}

export const api = client;

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 1000,
      refetchOnWindowFocus: true,
      retry: (n, e) => !(e instanceof Problem && e.status > 0 && e.status < 500) && n < 2,
    },
  },
});

const affected: Record<string, string[]> = {
  group: ["board", "groups", "group", "cycles", "berth", "readiness"],
  point: ["points", "exposure", "board"],
  operation: ["operations"],
  drill: ["drills", "group", "points"],
  failover: ["failovers", "group", "groups", "board", "points"],
  landing: ["landings", "points", "machines"],
  link: ["links", "board"],
  platform: ["platforms", "machines"],
  activity: ["activity"],
  alert: ["alerts"],
  store: ["store"],
  consent: ["consents", "board"],
};

/** useLive keeps what is shown up to date from the service's event stream. */
export function useLive(): boolean {
  const qc = useQueryClient();
  const [up, setUp] = useState(true);
  useEffect(() => {
    const es = new EventSource("/api/v1/events");
    const due = new Set<string>();
    let timer = 0;
    es.onopen = () => setUp(true);
    es.onerror = () => {
      setUp(false);
      // It may be that whoever looks may do so no longer.
      qc.invalidateQueries({ queryKey: ["me"] });
    };
    es.onmessage = (m) => {
      const e = JSON.parse(m.data) as { type: string };
      for (const k of affected[e.type] ?? []) due.add(k);
      // Gathered, so that a busy site does not keep the page asking.
      timer ||= window.setTimeout(() => {
        timer = 0;
        for (const k of due) qc.invalidateQueries({ queryKey: [k] });
        due.clear();
      }, 700);
    };
    return () => {
      es.close();
      window.clearTimeout(timer);
    };
  }, [qc]);
  return up;
}

/** useNow ticks once a second. */
export function useNow(): number {
  const [now, set] = useState(Date.now());
  useEffect(() => {
    const t = window.setInterval(() => set(Date.now()), 1000);
    return () => window.clearInterval(t);
  }, []);
  return now;
}
