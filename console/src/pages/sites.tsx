import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Fragment, useState } from "react";
import { useForm } from "react-hook-form";
import { Link } from "react-router";
import { useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { asks, useMay } from "../asks";
import { FormDialog } from "../dialog";
import { when } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Listed, Modal, Page } from "../ui";
import { Course } from "./course";
import { DNSServers } from "./dnsservers";
import { LinkCard } from "./link";

export function SitesPage() {
  const links = useQuery(asks.links);
  const dialog = useDialog<"invite" | "accept">();
  const may = useMay();
  return (
    <Page
      title="Sites"
      actions={
        may.administer && (
          <>
            <Link
              to="/file"
              className="rounded-md border border-line bg-card px-3 py-1.5 font-semibold text-[13px] hover:border-muted"
            >
              Settings as a file
            </Link>
            <Button onClick={() => dialog.open("accept")}>Accept an invitation…</Button>
            <Button kind="main" onClick={() => dialog.open("invite")}>
              Invite another site…
            </Button>
          </>
        )
      }
    >
      <Fault of={links.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {links.data?.map((l) => (
          <Fragment key={l.id}>
            <LinkCard l={l} />
            <Course of={{ kind: "link", id: l.id }} title={`Link to ${l.peer} over time`} />
          </Fragment>
        ))}
        {links.data && !links.data.length && (
          <Card title="Links">
            <Empty
              action={may.administer && <Button onClick={() => dialog.open("invite")}>Invite another site…</Button>}
            >
              Make an invitation here and accept it at the other site, or the other way round.
            </Empty>
          </Card>
        )}
      </div>
      {may.administer && <OpenInvitations />}
      <DNSServers />
      {dialog.name === "invite" && <InviteDialog onClose={dialog.close} />}
      {dialog.name === "accept" && <AcceptDialog onClose={dialog.close} />}
    </Page>
  );
}

function OpenInvitations() {
  const qc = useQueryClient();
  const q = useQuery(asks.invitations);
  const withdraw = useMutation({
    mutationFn: (id: string) => ask(api.DELETE("/invitations/{id}", { params: { path: { id } } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["invitations"] }),
  });
  if (!q.data?.length) return null;
  return (
    <Card title="Open invitations">
      <Listed items={q.data} button={{ text: "Withdraw", act: (i) => withdraw.mutate(i.id) }}>
        {(i) => (
          <>
            for <strong>{i.forSite ?? "any site"}</strong> · good until {when(i.expiresAt)} · made by {i.createdBy}
          </>
        )}
      </Listed>
      <Fault of={withdraw.error} />
    </Card>
  );
}

function InviteDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { forSite: "" } });
  const [made, setMade] = useState<Schemas["InvitationSecret"]>();
  const [copied, setCopied] = useState(false);
  const title = "Invite another site";
  const intro = "One string holds the address, the key and a secret. It is good once, for an hour.";
  if (!made) {
    return (
      <FormDialog
        title={title}
        intro={intro}
        form={form}
        act={(v) => ask(api.POST("/invitations", { body: { forSite: v.forSite || undefined, minutes: 60 } }))}
        done={(x) => {
          qc.invalidateQueries({ queryKey: ["invitations"] });
          setMade(x);
        }}
        onClose={onClose}
        go="Make the invitation"
      >
        {(refusal) => (
          <Field label="Only for the site called" hint="Leave empty for any site." faults={refusal?.at("forSite")}>
            {(id) => <input id={id} className={inputLook} {...form.register("forSite")} />}
          </Field>
        )}
      </FormDialog>
    );
  }
  return (
    <Modal open onOpenChange={(o) => !o && onClose()} title={title} intro={intro}>
      <label htmlFor="invitation" className="font-medium">
        Paste this at the other site, under “Accept an invitation”
      </label>
      <textarea
        id="invitation"
        readOnly
        rows={5}
        className={`${inputLook} break-all font-mono text-xs`}
        value={made.text}
        onFocus={(e) => e.target.select()}
      />
      {made.warning && <div className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">◆ {made.warning}</div>}
      <div className="flex justify-end gap-2">
        <Button
          onClick={() => {
            navigator.clipboard.writeText(made.text).then(() => setCopied(true));
          }}
        >
          {copied ? "Copied" : "Copy"}
        </Button>
        <Button kind="main" onClick={onClose}>
          Done
        </Button>
      </div>
    </Modal>
  );
}

function AcceptDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: { invitation: "" } });
  return (
    <FormDialog
      title="Accept an invitation"
      intro="Paste the string that the other site made."
      form={form}
      act={(body) => ask(api.POST("/links", { body }))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["links"] });
        onClose();
      }}
      onClose={onClose}
      go="Pair the sites"
    >
      {(refusal) => (
        <Field label="Invitation" faults={refusal?.at("invitation")}>
          {(id, d) => (
            <textarea
              id={id}
              aria-describedby={d}
              rows={5}
              required
              className={`${inputLook} break-all font-mono text-xs`}
              {...form.register("invitation")}
            />
          )}
        </Field>
      )}
    </FormDialog>
  );
}
