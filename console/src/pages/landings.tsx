import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { useAddress, useDialog } from "../address";
import { api, ask, type Schemas } from "../api";
import { useMay } from "../asks";
import { ConfirmDialog, Each, every } from "../dialog";
import { count, rate, size, when } from "../format";
import { type Column, given, paged, RowTable, useList } from "../table";
import { Bar, Button, Card, Empty, Fault, Find, Modal, Page, RowMenu, State, When } from "../ui";

type Landing = Schemas["Landing"];

const networkText = (n: string) => n || "not connected";

const columns: Column<Landing>[] = [
  {
    id: "name",
    head: "Machine",
    sort: "name",
    cell: (l) => (
      <>
        <div className="font-semibold">{l.name}</div>
        <div className="text-muted text-xs">
          {l.name === l.machine ? "" : `${l.machine} at home · `}by {l.createdBy}, {when(l.createdAt)}
        </div>
      </>
    ),
  },
  {
    id: "from",
    head: "From",
    sort: "group",
    cell: (l) => (
      <>
        {l.groupName} {l.pointNumber}
        <div className="text-muted text-xs">
          captured <When at={l.captureAt} />
        </div>
      </>
    ),
  },
  {
    id: "on",
    head: "On",
    sort: "platform",
    cell: (l) => (
      <>
        <span className="whitespace-nowrap">{l.platformName}</span>
        <div className="text-muted text-xs">datastore {l.datastore}</div>
      </>
    ),
  },
  { id: "state", head: "State", sort: "state", look: "min-w-44", cell: (l) => <LandingState l={l} /> },
  {
    id: "network",
    head: "Network",
    cell: (l) => (
      <>
        {l.nics.map((n) => (
          <div key={n.mac}>
            {networkText(n.network)}
            <Address n={n} />
            <div className="text-muted text-xs">at home: {networkText(n.home)}</div>
          </div>
        ))}
        {!l.nics.length && <span className="text-muted">no card</span>}
        {l.guest && <div className="text-muted text-xs">{l.guest}</div>}
      </>
    ),
  },
];

/** Address is what a card's guest was told, and what was read back from it. */
function Address({ n }: { n: Landing["nics"][number] }) {
  const told = n.address?.split("/")[0];
  if (!n.found) return told ? <div className="text-xs">◌ to have {told}; not read back yet</div> : null;
  if (!told) return <div className="text-xs">has {n.found}</div>;
  if (told === n.found || told === "dhcp") return <div className="text-good-ink text-xs">✓ has {n.found}</div>;
  return (
    <div className="text-over-ink text-xs">
      ✕ to have {told}, but has {n.found}
    </div>
  );
}

export function LandingsPage() {
  const [at, set] = useAddress();
  const dialog = useDialog<"remove" | "screen" | "off">();
  const flip = useMutation({
    mutationFn: (x: { id: string; to: string }) =>
      ask(api.POST("/landings/{id}/power", { params: { path: { id: x.id } }, body: { to: x.to } })),
  });
  const may = useMay();
  const by = { q: at("q"), sort: at("sort") };
  const list = useList<Landing>("landings", by, 3000, (limit, skip) =>
    paged(api.GET("/landings", { params: { query: { ...given(by), limit, skip } } })),
  );
  const actions: Column<Landing> = {
    id: "actions",
    head: "",
    right: true,
    cell: (l) =>
      may.operate && (
        <div className="flex justify-end gap-2">
          <RowMenu
            of={l.name}
            items={[
              { text: "Look at its screen…", act: () => dialog.open("screen", l.id) },
              { text: "Switch it on", act: () => flip.mutate({ id: l.id, to: "on" }), why: settled(l) },
              {
                text: "Ask its guest to shut down",
                act: () => flip.mutate({ id: l.id, to: "shut-down" }),
                why: settled(l),
              },
              { text: "Switch it off at once…", act: () => dialog.open("off", l.id), why: settled(l) },
            ]}
          />
          <Button small kind="danger" onClick={() => dialog.open("remove", l.id)}>
            Remove…
          </Button>
        </div>
      ),
  };
  return (
    <Page title="Landings">
      <Fault of={list.error ?? flip.error} />
      <Card title="Machines made from points" aside={list.known && count(list.total, "machine")}>
        {list.known && !list.total && !by.q ? (
          <Empty
            action={
              <Link to="/points" className="font-semibold text-link">
                Choose a point →
              </Link>
            }
          >
            Nothing has landed here. Start machines from a recovery point that this site holds.
          </Empty>
        ) : (
          <>
            <div className="border-line border-b p-3">
              <Find
                label="Find landings"
                hint="Find by name, group, platform or state"
                value={by.q}
                onFind={(q) => set({ q })}
              />
            </div>
            <RowTable
              label="Landings"
              columns={[...columns, actions]}
              list={list}
              sort={by.sort}
              onSort={(sort) => set({ sort })}
              nameOf={(l) => l.name}
              bulk={
                may.operate
                  ? (chosen) => (
                      <Button small kind="danger" onClick={() => dialog.open("remove", ...chosen.map((l) => l.id))}>
                        Remove…
                      </Button>
                    )
                  : undefined
              }
              none="No landing fits."
            />
          </>
        )}
      </Card>
      {dialog.name === "remove" && (
        <Each
          of="landings"
          ids={dialog.ids}
          load={(id) => ask(api.GET("/landings/{id}", { params: { path: { id } } }))}
          onClose={dialog.close}
        >
          {(landings) => <RemoveDialog landings={landings} onClose={dialog.close} />}
        </Each>
      )}
      {dialog.name === "screen" && (
        <Each
          of="landings"
          ids={dialog.ids}
          load={(id) => ask(api.GET("/landings/{id}", { params: { path: { id } } }))}
          onClose={dialog.close}
        >
          {([l]) => l && <Screen l={l} onClose={dialog.close} />}
        </Each>
      )}
      {dialog.name === "off" && (
        <Each
          of="landings"
          ids={dialog.ids}
          load={(id) => ask(api.GET("/landings/{id}", { params: { path: { id } } }))}
          onClose={dialog.close}
        >
          {([l]) =>
            l && (
              <ConfirmDialog
                title={`Switch off ${l.name}`}
                intro="It ends as if its plug was pulled: what its guest has not written yet is lost."
                ask="the machine's name"
                name={l.name}
                act={() =>
                  ask(api.POST("/landings/{id}/power", { params: { path: { id: l.id } }, body: { to: "off" } }))
                }
                done={dialog.close}
                onClose={dialog.close}
                go="Switch it off"
                stay="Leave it running"
              />
            )
          }
        </Each>
      )}
    </Page>
  );
}

/** settled says why a machine cannot be switched yet. */
function settled(l: Landing): string | undefined {
  return ["running", "local", "off"].includes(l.state) ? undefined : "It starts by itself when it can.";
}

/** asAddress puts a picture into an address, which the page may show. */
function asAddress(picture: Blob): Promise<string> {
  return new Promise((done, failed) => {
    const reader = new FileReader();
    reader.onload = () => done(String(reader.result));
    reader.onerror = () => failed(reader.error);
    reader.readAsDataURL(picture);
  });
}

/** Screen shows what is on a machine's screen, and looks again now and then. */
function Screen({ l, onClose }: { l: Landing; onClose: () => void }) {
  const shot = useQuery({
    queryKey: ["screen", l.id],
    queryFn: async () => {
      const shot = await ask(api.GET("/landings/{id}/screen", { params: { path: { id: l.id } }, parseAs: "blob" }));
      return { url: await asAddress(shot as unknown as Blob), at: new Date().toISOString() };
    },
    refetchInterval: 5000,
    gcTime: 0,
    retry: false,
  });
  const url = shot.data?.url;
  return (
    <Modal
      open
      onOpenChange={(open) => !open && onClose()}
      title={`The screen of ${l.name}`}
      intro={
        <>
          On {l.platformName}, <When at={shot.data?.at} />. It is looked at again every five seconds.
        </>
      }
    >
      <Fault of={shot.error} />
      {url && !shot.error && (
        <img src={url} alt={`What ${l.name} shows`} className="w-full rounded border border-line bg-black" />
      )}
      <div className="flex justify-end">
        <Button onClick={onClose}>Close</Button>
      </div>
    </Modal>
  );
}

function LandingState({ l }: { l: Landing }) {
  const share = l.totalBytes ? l.localBytes / l.totalBytes : 0;
  const moving = l.state === "running" || l.state === "copying";
  return (
    <div className="grid gap-1">
      <div>
        <State of={l.error ? "landing failed" : `landing ${l.state}`} />
      </div>
      {l.error && <div className="text-over-ink text-xs">{l.error} It is tried again.</div>}
      {moving && (
        <>
          <Bar share={share} label={`${l.name} made local`} />
          <div className="text-muted text-xs">
            {size(l.localBytes)} of {size(l.totalBytes)} local
            {l.bytesPerSecond ? ` · ${rate(l.bytesPerSecond)}` : ""}
            {l.finishAt ? ` · done about ${when(l.finishAt)}` : ""}
          </div>
        </>
      )}
      {l.note && <div className="text-muted text-xs">{l.note}</div>}
      {l.check && (
        <div className="text-muted text-xs">
          Wave {l.wave}: {l.check}
        </div>
      )}
      {l.startedAt && (
        <div className="text-muted text-xs">
          {l.power && l.power !== "on" ? `${l.power} now; started ` : "runs since "}
          <When at={l.startedAt} />
        </div>
      )}
    </div>
  );
}

function RemoveDialog({ landings, onClose }: { landings: Landing[]; onClose: () => void }) {
  const qc = useQueryClient();
  const one = landings.length === 1 ? landings[0] : undefined;
  return (
    <ConfirmDialog
      title={`Remove ${one ? one.name : count(landings.length, "machine")}`}
      intro={
        one
          ? `It is stopped at once, and its disks on ${one.platformName} are deleted with all that it wrote. The point stays.`
          : `${landings.map((l) => l.name).join(", ")} are stopped at once, and their disks are deleted with all that they wrote. The points stay.`
      }
      ask={one ? "the machine's name" : "how many"}
      name={one ? one.name : count(landings.length, "machine")}
      act={() => every(landings, (l) => ask(api.DELETE("/landings/{id}", { params: { path: { id: l.id } } })))}
      done={() => {
        qc.invalidateQueries({ queryKey: ["landings"] });
        onClose();
      }}
      onClose={onClose}
      go={one ? "Remove the machine" : "Remove the machines"}
      stay="Leave it running"
    />
  );
}
