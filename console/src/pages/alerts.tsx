import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { Link } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { Each, FormDialog } from "../dialog";
import { count } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Page, State, When } from "../ui";
import { Rules } from "./alertrules";
import { ChannelDialog, Channels } from "./channels";
import { SilenceDialog, Silences } from "./silences";

type Alert = Schemas["Alert"];

const shows = [
  ["", "Open"],
  ["cleared", "Cleared"],
  ["rules", "Rules"],
  ["silences", "Silences"],
  ["channels", "Channels"],
] as const;

/** AlertsPage shows what somebody has to see to, and who is told of it. */
export function AlertsPage() {
  const may = useMay();
  const [get, set] = useAddress();
  const dialog = useDialog<"ack" | "silence" | "mail" | "webhook" | "channel">();
  const show = get("show");
  const tabs = shows.filter(([to]) => to !== "channels" || may.operate);
  return (
    <Page
      title="Alerts"
      actions={
        <>
          {may.operate && <Button onClick={() => dialog.open("silence")}>Silence…</Button>}
          {may.administer && show === "channels" && (
            <>
              <Button onClick={() => dialog.open("webhook")}>New webhook…</Button>
              <Button kind="main" onClick={() => dialog.open("mail")}>
                New mail channel…
              </Button>
            </>
          )}
        </>
      }
    >
      <nav aria-label="Parts of this page" className="flex flex-wrap gap-1">
        {tabs.map(([to, text]) => (
          <Button
            key={to}
            kind={show === to ? "main" : "plain"}
            aria-current={show === to ? "page" : undefined}
            onClick={() => set({ show: to })}
          >
            {text}
          </Button>
        ))}
      </nav>
      {dialog.name === "ack" && (
        <Each of="alerts" ids={dialog.ids} load={openAlert} onClose={dialog.close}>
          {([a]) => a && <AckDialog of={a} onClose={dialog.close} />}
        </Each>
      )}
      {dialog.name === "silence" && <SilenceDialog group={dialog.ids[0]} onClose={dialog.close} />}
      {(dialog.name === "mail" || dialog.name === "webhook") && (
        <ChannelDialog kind={dialog.name} onClose={dialog.close} />
      )}
      {show === "" && (
        <Open
          onAck={may.operate ? (a) => dialog.open("ack", a.id) : undefined}
          onSilence={may.operate ? (a) => dialog.open("silence", a.thing === "group" ? a.name : "") : undefined}
        />
      )}
      {show === "cleared" && <Cleared />}
      {show === "rules" && <Rules />}
      {show === "silences" && <Silences />}
      {show === "channels" && <Channels />}
    </Page>
  );
}

async function openAlert(id: string): Promise<Alert> {
  const all = await ask(api.GET("/alerts"));
  const a = all.find((x) => x.id === id);
  if (!a) throw new Error("The alert is cleared");
  return a;
}

function Open(p: { onAck?: (a: Alert) => void; onSilence?: (a: Alert) => void }) {
  const q = useQuery(asks.alerts);
  const channels = useQuery({ ...asks.channels, enabled: !!p.onAck });
  const told = channels.data?.some((c) => !c.off);
  return (
    <>
      <Fault of={q.error} />
      {channels.data && !told && (
        <Card className="p-4">
          Nobody is told of alerts: there is no channel that is on.{" "}
          <Link to="/alerts?show=channels" className="font-semibold text-link">
            Make one →
          </Link>
        </Card>
      )}
      {q.data?.length === 0 && (
        <Card>
          <Empty>Nothing is open. What was is under “Cleared”.</Empty>
        </Card>
      )}
      {q.data?.map((a) => (
        <One key={a.id} a={a}>
          {p.onAck && !a.ackedAt && (
            <Button small onClick={() => p.onAck?.(a)}>
              I see to it…
            </Button>
          )}
          {p.onSilence && !a.silenced && (
            <Button small onClick={() => p.onSilence?.(a)}>
              Silence…
            </Button>
          )}
        </One>
      ))}
    </>
  );
}

function Cleared() {
  const q = useQuery({
    queryKey: ["alerts", "cleared"],
    queryFn: () => ask(api.GET("/alerts", { params: { query: { state: "cleared" } } })),
  });
  return (
    <>
      <Fault of={q.error} />
      {q.data?.length === 0 && (
        <Card>
          <Empty>Nothing was raised in the last 30 days and is cleared.</Empty>
        </Card>
      )}
      {q.data?.map((a) => (
        <One key={a.id} a={a} />
      ))}
    </>
  );
}

function One({ a, children }: { a: Alert; children?: React.ReactNode }) {
  return (
    <Card
      title={
        <span className="flex flex-wrap items-center gap-3">
          <State of={a.clearedAt ? "alert cleared" : `alert ${a.level}`} />
          {a.page ? <Link to={a.page}>{a.name}</Link> : a.name}
          <span className="font-normal text-muted">{a.kind}</span>
        </span>
      }
      aside={
        <>
          since <When at={a.since} />
          {a.clearedAt && (
            <>
              , cleared <When at={a.clearedAt} />
            </>
          )}
        </>
      }
    >
      <div className="flex flex-wrap items-end justify-between gap-3 px-4 py-3">
        <div className="grid max-w-[75ch] gap-1">
          <p>{a.text}</p>
          {a.mend && !a.clearedAt && <p className="text-muted">{a.mend}</p>}
          {a.members.length > 0 && (
            <p>
              {count(a.members.length, "group")} held up by it: {a.members.join(", ")}.
            </p>
          )}
          <p className="text-muted text-xs">
            {a.toldAt ? (
              <>
                Told <When at={a.toldAt} />
              </>
            ) : (
              "Nobody was told"
            )}
            {a.escalatedAt && (
              <>
                , escalated <When at={a.escalatedAt} />
              </>
            )}
            {a.ackedBy && (
              <>
                {" "}
                · {a.ackedBy} sees to it since <When at={a.ackedAt} />
                {a.ackNote && `: ${a.ackNote}`}
              </>
            )}
            {a.silenced && ` · silenced by ${a.silenced}`}
            {a.partOf && ` · taken over by an alert “${a.partOf}”`}
            {a.goneAt && !a.clearedAt && (
              <>
                {" "}
                · not so any more since <When at={a.goneAt} />
              </>
            )}
          </p>
        </div>
        <div className="flex gap-2">{children}</div>
      </div>
    </Card>
  );
}

function AckDialog({ of, onClose }: { of: Alert; onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { note: "" } });
  return (
    <FormDialog
      title={`${of.name}: ${of.kind}`}
      intro="It stays open until it is cleared by itself, and is not escalated any more."
      form={form}
      act={(v) =>
        ask(
          api.POST("/alerts/{id}/acknowledge", {
            params: { path: { id: of.id } },
            body: { note: v.note || undefined },
          }),
        )
      }
      done={() => {
        qc.invalidateQueries({ queryKey: ["alerts"] });
        onClose();
      }}
      onClose={onClose}
      go="I see to it"
    >
      {(refusal) => (
        <Field label="Note" hint="What you do about it, for others to read." faults={refusal?.at("note")}>
          {(id) => <input id={id} autoComplete="off" className={inputLook} {...form.register("note")} />}
        </Field>
      )}
    </FormDialog>
  );
}
