import { keepPreviousData, queryOptions, useQuery } from "@tanstack/react-query";
import { api, ask } from "./api";

// What pages ask for, under which key, and how often if no event comes before.
// Events say which keys are asked for anew (see useLive).

const second = 1000;

export const asks = {
  alerts: queryOptions({
    queryKey: ["alerts", "open"],
    queryFn: () => ask(api.GET("/alerts")),
    refetchInterval: 10 * second,
  }),
  alertRules: queryOptions({ queryKey: ["alerts", "rules"], queryFn: () => ask(api.GET("/alert-rules")) }),
  silences: queryOptions({
    queryKey: ["alerts", "silences"],
    queryFn: () => ask(api.GET("/silences")),
    refetchInterval: 15 * second,
  }),
  channels: queryOptions({
    queryKey: ["alerts", "channels"],
    queryFn: () => ask(api.GET("/channels")),
    refetchInterval: 10 * second,
  }),
  board: (limit: number) =>
    queryOptions({
      queryKey: ["board", limit],
      queryFn: () => ask(api.GET("/board", { params: { query: { limit } } })),
      refetchInterval: 5 * second,
      placeholderData: keepPreviousData,
    }),
  copies: queryOptions({ queryKey: ["copies"], queryFn: () => ask(api.GET("/copies")), refetchInterval: 15 * second }),
  coverage: queryOptions({
    queryKey: ["coverage"],
    queryFn: () => ask(api.GET("/coverage")),
    refetchInterval: 15 * second,
  }),
  /** groups are their names only: there may be thousands. */
  groups: queryOptions({
    queryKey: ["groups", "names"],
    queryFn: () => ask(api.GET("/group-names")),
    refetchInterval: 15 * second,
  }),
  invitations: queryOptions({
    queryKey: ["invitations"],
    queryFn: () => ask(api.GET("/invitations")),
    refetchInterval: 10 * second,
  }),
  landings: queryOptions({
    queryKey: ["landings"],
    queryFn: () => ask(api.GET("/landings")),
    refetchInterval: 3 * second,
  }),
  links: queryOptions({ queryKey: ["links"], queryFn: () => ask(api.GET("/links")), refetchInterval: 5 * second }),
  losses: queryOptions({
    queryKey: ["losses"],
    queryFn: () => ask(api.GET("/store/losses")),
    refetchInterval: 15 * second,
  }),
  me: queryOptions({ queryKey: ["me"], queryFn: () => ask(api.GET("/session")), staleTime: 60 * second }),
  platforms: queryOptions({
    queryKey: ["platforms"],
    queryFn: () => ask(api.GET("/platforms")),
    refetchInterval: 10 * second,
  }),
  served: queryOptions({ queryKey: ["served"], queryFn: () => ask(api.GET("/served")), refetchInterval: 5 * second }),
  store: queryOptions({ queryKey: ["store"], queryFn: () => ask(api.GET("/store")), refetchInterval: 15 * second }),
  sessions: queryOptions({ queryKey: ["sessions"], queryFn: () => ask(api.GET("/sessions")) }),
  ways: queryOptions({ queryKey: ["ways"], queryFn: () => ask(api.GET("/session/ways")), staleTime: Infinity }),
  passkeys: queryOptions({ queryKey: ["passkeys"], queryFn: () => ask(api.GET("/session/passkeys")) }),
  safeguards: queryOptions({ queryKey: ["safeguards"], queryFn: () => ask(api.GET("/safeguards")) }),
  consents: queryOptions({ queryKey: ["consents"], queryFn: () => ask(api.GET("/consents")) }),
  people: queryOptions({ queryKey: ["people"], queryFn: () => ask(api.GET("/people")) }),
  tiers: queryOptions({ queryKey: ["tiers"], queryFn: () => ask(api.GET("/tiers")), refetchInterval: 15 * second }),
  tokens: queryOptions({ queryKey: ["tokens"], queryFn: () => ask(api.GET("/tokens")) }),
  machines: queryOptions({ queryKey: ["machines"], queryFn: () => ask(api.GET("/machines")) }),
};

/** useMay tells what who is signed in may do; what they may not is not offered. */
export function useMay(): { operate: boolean; administer: boolean } {
  const role = useQuery(asks.me).data?.role;
  return { operate: role === "operator" || role === "administrator", administer: role === "administrator" };
}
