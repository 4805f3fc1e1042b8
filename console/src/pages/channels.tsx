import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useForm } from "react-hook-form";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { count } from "../format";
import { Button, Card, Empty, Fault, Field, Heads, inputLook, Modal, Once, RowMenu, State, td, When } from "../ui";

type Channel = Schemas["Channel"];

/** Channels lists where people are told, and how the last delivery went. */
export function Channels() {
  const may = useMay();
  const qc = useQueryClient();
  const q = useQuery(asks.channels);
  const dialog = useDialog<"channel">();
  const again = () => qc.invalidateQueries({ queryKey: ["alerts"] });
  const test = useMutation({
    mutationFn: (id: string) => ask(api.POST("/channels/{id}/test", { params: { path: { id } } })),
  });
  const remove = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/channels/{id}", { params: { path: { id } } })),
    onSuccess: again,
  });
  const chosen = dialog.name === "channel" ? q.data?.find((c) => c.id === dialog.ids[0]) : undefined;
  return (
    <Card>
      <Fault of={q.error ?? test.error ?? remove.error} />
      {chosen && <ChannelDialog kind={chosen.kind} of={chosen} onClose={dialog.close} />}
      {test.isPending && <p className="px-4 py-2 text-muted">It is being sent…</p>}
      {test.data && (
        <p role="status" className={`px-4 py-2 ${test.data.ok ? "text-good-ink" : "text-over-ink"}`}>
          {test.data.ok ? "● " : "✕ "}
          {test.data.text}
        </p>
      )}
      {q.data?.length === 0 ? (
        <Empty>No channel yet, so nobody is told of alerts. Add one for mail, or a webhook.</Empty>
      ) : (
        <div className="overflow-x-auto">
          <table className="w-full">
            <Heads of={["Channel", "To", "Told of", "Digest", "Last delivery", ""]} />
            <tbody>
              {q.data?.map((c) => (
                <tr key={c.id} className="border-line border-t">
                  <td className={td}>
                    <span className="font-semibold">{c.name}</span>
                    <div className="text-muted text-xs">{c.kind}</div>
                  </td>
                  <td className={`${td} break-all`}>{c.url ?? c.to?.join(", ")}</td>
                  <td className={td}>{c.off ? "nothing: it is off" : c.urgentOnly ? "what is urgent" : "all"}</td>
                  <td className={td}>{c.digest ? `${c.digest} ${c.zone ?? ""}` : "—"}</td>
                  <td className={td}>
                    <Last c={c} />
                  </td>
                  <td className={td}>
                    {may.administer && (
                      <RowMenu
                        of={c.name}
                        items={[
                          { text: "Test it", act: () => test.mutate(c.id) },
                          { text: "Change…", act: () => dialog.open("channel", c.id) },
                          { text: "Remove", act: () => remove.mutate(c.id) },
                        ]}
                      />
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Card>
  );
}

function Last({ c }: { c: Channel }) {
  const waits = c.waiting > 0 && (
    <div className="text-muted text-xs">{count(c.waiting, "message")} to be delivered</div>
  );
  if (!c.lastAt) return <>nothing yet {waits}</>;
  return (
    <>
      <State of={c.lastError ? "delivery failed" : "delivery taken"} /> <When at={c.lastAt} />
      {c.lastError && <div className="max-w-[48ch] break-words text-over-ink text-xs">{c.lastError}</div>}
      {waits}
    </>
  );
}

type Values = {
  name: string;
  server: string;
  tls: string;
  user: string;
  password: string;
  from: string;
  to: string;
  url: string;
  key: string;
  told: string;
  digest: string;
  zone: string;
  trust: string;
};

/** ChannelDialog makes a channel or changes one. */
export function ChannelDialog({ kind, of, onClose }: { kind: string; of?: Channel; onClose: () => void }) {
  const qc = useQueryClient();
  const [made, setMade] = useState<Channel>();
  const form = useForm<Values>({
    defaultValues: {
      name: of?.name ?? "",
      server: of?.server ?? "",
      tls: of?.tls ?? "starttls",
      user: of?.user ?? "",
      password: "",
      from: of?.from ?? "",
      to: of?.to?.join(", ") ?? "",
      url: of?.url ?? "",
      key: "",
      told: of?.off ? "off" : of?.urgentOnly ? "urgent" : "all",
      digest: of?.digest ?? "",
      zone: of?.zone ?? (Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC"),
      trust: of?.trust ?? "",
    },
  });
  const act = (v: Values) => {
    const body: Schemas["WriteChannel"] = {
      name: v.name,
      kind,
      revision: of?.revision,
      off: v.told === "off",
      urgentOnly: v.told === "urgent",
      digest: v.digest.trim() || undefined,
      zone: v.digest.trim() ? v.zone : undefined,
      trust: v.trust.trim() || undefined,
      ...(kind === "mail"
        ? {
            server: v.server,
            tls: v.tls,
            user: v.user || undefined,
            password: v.password || undefined,
            from: v.from,
            to: v.to.split(",").flatMap((t) => t.trim() || []),
          }
        : { url: v.url, key: v.key || undefined }),
    };
    return of
      ? ask(api.PUT("/channels/{id}", { params: { path: { id: of.id } }, body }))
      : ask(api.POST("/channels", { body }));
  };
  const done = (c: Channel) => {
    qc.invalidateQueries({ queryKey: ["alerts"] });
    if (c.key) setMade(c);
    else onClose();
  };
  if (made) {
    return (
      <Modal open onOpenChange={(o) => !o && onClose()} title={made.name}>
        <Once of="Events are signed with this key.">{made.key}</Once>
        <div className="flex justify-end">
          <Button kind="main" onClick={onClose}>
            I have it
          </Button>
        </div>
      </Modal>
    );
  }
  const title = of ? `Change ${of.name}` : kind === "mail" ? "New mail channel" : "New webhook";
  return (
    <FormDialog title={title} form={form} act={act} done={done} onClose={onClose} go="Save">
      {(refusal) => {
        const text = (name: keyof Values, label: string, hint?: string, type = "text") => (
          <Field label={label} hint={hint} faults={refusal?.at(name)}>
            {(id, d) => (
              <input
                id={id}
                type={type}
                aria-describedby={d}
                autoComplete={type === "password" ? "new-password" : "off"}
                className={inputLook}
                {...form.register(name)}
              />
            )}
          </Field>
        );
        return (
          <div className="grid gap-3 sm:grid-cols-2">
            {text("name", "Name", "What rules call it, such as on-call.")}
            <Field label="Told of">
              {(id) => (
                <select id={id} className={inputLook} {...form.register("told")}>
                  <option value="all">all</option>
                  <option value="urgent">what is urgent</option>
                  <option value="off">nothing</option>
                </select>
              )}
            </Field>
            {kind === "mail" ? (
              <>
                {text("server", "Mail server", "Such as mail.example:587.")}
                <Field label="TLS" faults={refusal?.at("tls")}>
                  {(id) => (
                    <select id={id} className={inputLook} {...form.register("tls")}>
                      <option value="starttls">STARTTLS</option>
                      <option value="implicit">from the first byte on</option>
                      <option value="none">none, on loopback only</option>
                    </select>
                  )}
                </Field>
                {text("user", "User", "Left out if the server lets this host in.")}
                {text("password", "Password", of?.hasPassword ? "Left out: it stays as it is." : undefined, "password")}
                {text("from", "From")}
                {text("to", "To", "Addresses, apart by commas.")}
              </>
            ) : (
              <>
                <div className="sm:col-span-2">
                  {text("url", "Address", "Where events are posted, as CloudEvents 1.0.")}
                </div>
                {text(
                  "key",
                  "Key",
                  of ? "Left out: it stays as it is." : "What events are signed with; one is made if left out.",
                  "password",
                )}
                <span />
              </>
            )}
            {text("digest", "Digest", "When it gets a summary every day, such as 07:00.")}
            {text("zone", "Time zone of that")}
            <div className="sm:col-span-2">
              <Field
                label="Certificates to trust"
                hint="PEM of what signs the server's; left out: those of the site's host."
                faults={refusal?.at("trust")}
              >
                {(id, d) => (
                  <textarea
                    id={id}
                    aria-describedby={d}
                    rows={2}
                    className={`${inputLook} font-mono text-xs`}
                    {...form.register("trust")}
                  />
                )}
              </Field>
            </div>
          </div>
        );
      }}
    </FormDialog>
  );
}
