import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { useDialog } from "../address";
import { api, ask, Problem } from "../api";
import { asks, useMay } from "../asks";
import { ConfirmDialog } from "../dialog";
import { tagsOf, when } from "../format";
import { Button, Card, Fault, Field, inputLook, Listed, Once, Page, RowMenu } from "../ui";
import { RoleSelect, roles } from "./roles";
import { ConsentsCard, SafeguardsCard } from "./safeguards";
import { SecondFactorCard } from "./secondfactor";
import { TokensCard } from "./tokens";
import { YouCard } from "./you";

export function AccessPage() {
  const may = useMay();
  const me = useQuery(asks.me).data;
  return (
    <Page title="Access">
      <ConsentsCard />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <div className="grid gap-4">
          {may.administer && <PeopleCard />}
          <SafeguardsCard />
        </div>
        <div className="grid gap-4">
          <YouCard />
          {!me?.signOn && <SecondFactorCard />}
          <TokensCard />
        </div>
      </div>
    </Page>
  );
}

/** People sign in; each has a role, which may be limited to groups with a tag. */
function PeopleCard() {
  const qc = useQueryClient();
  const dialog = useDialog<"remove">();
  const q = useQuery(asks.people);
  const again = () => qc.invalidateQueries({ queryKey: ["people"] });
  const edit = useMutation({
    mutationFn: (x: { id: string; role?: string; disabled?: boolean; secondFactorOff?: boolean }) =>
      ask(
        api.PATCH("/people/{id}", {
          params: { path: { id: x.id } },
          body: { role: x.role, disabled: x.disabled, secondFactorOff: x.secondFactorOff },
        }),
      ),
    onSettled: again,
  });
  const reset = useMutation({
    mutationFn: async (x: { id: string; name: string }) => ({
      of: x.name,
      ...(await ask(api.POST("/people/{id}/reset", { params: { path: { id: x.id } } }))),
    }),
  });
  const leaving = dialog.name === "remove" ? q.data?.find((x) => x.id === dialog.ids[0]) : undefined;
  return (
    <Card title="People" aside="who may sign in">
      <Listed
        items={q.data}
        button={{ text: "Remove…", danger: true, act: (x) => dialog.open("remove", x.id) }}
        beside={(x) => (
          <>
            <RoleSelect
              aria-label={`Role of ${x.name}`}
              disabled={x.signOn}
              title={x.signOn ? "Their groups where they sign in say what they may do." : undefined}
              value={x.role}
              onChange={(e) => edit.mutate({ id: x.id, role: e.target.value })}
            />
            <RowMenu
              of={x.name}
              items={[
                {
                  text: "Reset the password",
                  act: () => reset.mutate(x),
                  why: x.signOn ? "They have no password here." : x.disabled ? "They may not sign in." : undefined,
                },
                {
                  text: "Take the second factor off",
                  act: () => edit.mutate({ id: x.id, secondFactorOff: true }),
                  why: x.secondFactor ? undefined : "They have none.",
                },
                x.disabled
                  ? { text: "Enable", act: () => edit.mutate({ id: x.id, disabled: false }) }
                  : { text: "Disable", act: () => edit.mutate({ id: x.id, disabled: true }) },
              ]}
            />
          </>
        )}
      >
        {(x) => (
          <>
            <strong>{x.name}</strong>{" "}
            {x.disabled && (
              <strong className="rounded bg-still-bg px-1.5 py-0.5 text-xs">disabled, may not sign in</strong>
            )}{" "}
            <span className="text-muted text-xs">
              since {when(x.createdAt)} ·{" "}
              {x.signOn ? "signs in elsewhere" : x.secondFactor ? "with a second factor" : "password only"} ·{" "}
              {x.tags.length ? `groups tagged ${x.tags.join(", ")}` : "all groups"}
            </span>
          </>
        )}
      </Listed>
      <div className="grid gap-2 px-4 pt-3 empty:hidden">
        {reset.data && (
          <Once until={reset.data.expiresAt} of={`For ${reset.data.of} to set another password: good`}>
            {reset.data.link}
          </Once>
        )}
        <Fault of={q.error ?? edit.error ?? reset.error} />
      </div>
      <InviteForm />
      {leaving && (
        <ConfirmDialog
          title={`Remove ${leaving.name}`}
          intro="They are signed out at once, and their tokens end. What they did stays in the activity."
          ask="their name"
          name={leaving.name}
          act={() => ask(api.DELETE("/people/{id}", { params: { path: { id: leaving.id } } }))}
          done={() => {
            again();
            dialog.close();
          }}
          onClose={dialog.close}
          go="Remove them"
          stay="Leave them"
        />
      )}
    </Card>
  );
}

function InviteForm() {
  const form = useForm({ defaultValues: { role: "operator", tags: "" } });
  const role = useWatch({ control: form.control, name: "role" });
  const invite = useMutation({
    mutationFn: (v: { role: string; tags: string }) =>
      ask(api.POST("/people", { body: { role: v.role, tags: tagsOf(v.tags) } })),
  });
  const p = invite.error instanceof Problem ? invite.error : undefined;
  return (
    <form className="grid gap-2 px-4 py-3" onSubmit={form.handleSubmit((v) => invite.mutate(v))}>
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Somebody new joins as" hint={roles.find((r) => r[0] === role)?.[2]} faults={p?.at("role")}>
          {(id) => <RoleSelect id={id} {...form.register("role")} />}
        </Field>
        <Field label="Only for groups tagged" hint="Leave empty for all groups." faults={p?.at("tags")}>
          {(id) => <input id={id} className={inputLook} {...form.register("tags")} />}
        </Field>
      </div>
      {invite.data && (
        <Once until={invite.data.expiresAt} of="Good">
          {invite.data.link}
        </Once>
      )}
      <Fault of={invite.error && !p?.errors.length ? invite.error : undefined} />
      <Button type="submit" className="justify-self-start" disabled={invite.isPending}>
        Make a one-time link
      </Button>
    </form>
  );
}
