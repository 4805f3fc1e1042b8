import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { when } from "../format";
import { Button, Card, Empty, Fault, Field, inputLook, Modal, Page } from "../ui";
import { LinkCard } from "./link";

export function SitesPage() {
  const links = useQuery(asks.links);
  const [dialog, setDialog] = useState<"invite" | "accept">();
  return (
    <Page
      title="Sites"
      actions={
        <>
          <Button onClick={() => setDialog("accept")}>Accept an invitation…</Button>
          <Button kind="main" onClick={() => setDialog("invite")}>
            Invite another site…
          </Button>
        </>
      }
    >
      <Fault of={links.error} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        {links.data?.map((l) => (
          <LinkCard key={l.id} l={l} />
        ))}
        {links.data && !links.data.length && (
          <Card title="Links">
            <Empty action={<Button onClick={() => setDialog("invite")}>Invite another site…</Button>}>
              Make an invitation here and accept it at the other site, or the other way round.
            </Empty>
          </Card>
        )}
      </div>
      <OpenInvitations />
      {dialog === "invite" && <InviteDialog onClose={() => setDialog(undefined)} />}
      {dialog === "accept" && <AcceptDialog onClose={() => setDialog(undefined)} />}
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
      <ul>
        {q.data.map((i) => (
          <li
            key={i.id}
            className="flex items-center justify-between gap-2 border-line border-t px-4 py-2 first:border-t-0"
          >
            <span>
              for <strong>{i.forSite ?? "any site"}</strong> · good until {when(i.expiresAt)} · made by {i.createdBy}
            </span>
            <Button onClick={() => withdraw.mutate(i.id)}>Withdraw</Button>
          </li>
        ))}
      </ul>
    </Card>
  );
}

function InviteDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const [forSite, setForSite] = useState("");
  const [copied, setCopied] = useState(false);
  const m = useMutation({
    mutationFn: () => ask(api.POST("/invitations", { body: { forSite: forSite || undefined, minutes: 60 } })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["invitations"] }),
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title="Invite another site"
      intro="One string holds the address, the key and a secret. It is good once, for an hour."
    >
      {m.data ? (
        <>
          <label htmlFor="invitation" className="font-medium">
            Paste this at the other site, under “Accept an invitation”
          </label>
          <textarea
            id="invitation"
            readOnly
            rows={5}
            className={`${inputLook} break-all font-mono text-xs`}
            value={m.data.text}
            onFocus={(e) => e.target.select()}
          />
          {m.data.warning && (
            <div className="rounded bg-tight-bg px-2.5 py-1.5 text-tight-ink text-xs">◆ {m.data.warning}</div>
          )}
          <div className="flex justify-end gap-2">
            <Button
              onClick={() => {
                navigator.clipboard.writeText(m.data.text).then(() => setCopied(true));
              }}
            >
              {copied ? "Copied" : "Copy"}
            </Button>
            <Button kind="main" onClick={onClose}>
              Done
            </Button>
          </div>
        </>
      ) : (
        <form
          className="grid gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            m.mutate();
          }}
        >
          <Field label="Only for the site called" hint="Leave empty for any site." faults={p?.at("forSite")}>
            {(id) => (
              <input id={id} className={inputLook} value={forSite} onChange={(e) => setForSite(e.target.value)} />
            )}
          </Field>
          <Fault of={p && !p.at("forSite").length ? p : undefined} />
          <div className="flex justify-end gap-2">
            <Button onClick={onClose}>Not now</Button>
            <Button kind="main" type="submit">
              Make the invitation
            </Button>
          </div>
        </form>
      )}
    </Modal>
  );
}

function AcceptDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const [invitation, set] = useState("");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/links", { body: { invitation } })),
    onSuccess: () => {
      qc.invalidateQueries({ queryKey: ["links"] });
      onClose();
    },
  });
  const p = m.error instanceof Problem ? m.error : undefined;
  return (
    <Modal
      open
      onOpenChange={(o) => !o && onClose()}
      title="Accept an invitation"
      intro="Paste the string that the other site made."
    >
      <form
        className="grid gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          m.mutate();
        }}
      >
        <Field label="Invitation" faults={p?.at("invitation")}>
          {(id, d) => (
            <textarea
              id={id}
              aria-describedby={d}
              rows={5}
              required
              className={`${inputLook} break-all font-mono text-xs`}
              value={invitation}
              onChange={(e) => set(e.target.value)}
            />
          )}
        </Field>
        <Fault of={p && !p.at("invitation").length ? p : undefined} />
        <div className="flex justify-end gap-2">
          <Button onClick={onClose}>Not now</Button>
          <Button kind="main" type="submit" disabled={m.isPending}>
            Pair the sites
          </Button>
        </div>
      </form>
    </Modal>
  );
}
