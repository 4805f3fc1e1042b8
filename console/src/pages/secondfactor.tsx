import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useForm } from "react-hook-form";
import { api, ask, Problem } from "../api";
import { asks } from "../asks";
import { Button, Card, Fault, Field, inputLook } from "../ui";

/** SecondFactorCard sets up one's own second factor, and takes it off. */
export function SecondFactorCard() {
  const me = useQuery(asks.me).data;
  return (
    <Card title="Your second factor" aside="a code beside the password">
      <div className="grid gap-3 px-4 py-3">{me && (me.secondFactor.set ? <SetUp /> : <SetUpForm />)}</div>
    </Card>
  );
}

function SetUpForm() {
  const qc = useQueryClient();
  const begin = useMutation({ mutationFn: () => ask(api.POST("/session/second-factor")) });
  const form = useForm({ defaultValues: { code: "" } });
  const confirm = useMutation({
    mutationFn: (v: { code: string }) => ask(api.PUT("/session/second-factor", { body: { code: v.code.trim() } })),
  });
  const p = confirm.error instanceof Problem ? confirm.error : undefined;
  if (confirm.data) {
    return (
      <>
        <p>
          It is set. These recovery codes let you in without your authenticator, each once. They are not shown again:
          print them, or keep them where your passwords are.
        </p>
        <ul className="grid select-all grid-cols-2 gap-x-6 rounded bg-good-bg px-3 py-2 font-mono text-good-ink">
          {confirm.data.codes.map((c) => (
            <li key={c}>{c}</li>
          ))}
        </ul>
        <Button kind="main" className="justify-self-start" onClick={() => qc.invalidateQueries({ queryKey: ["me"] })}>
          I have kept them
        </Button>
      </>
    );
  }
  if (!begin.data) {
    return (
      <>
        <p className="text-muted">
          You sign in with your password alone. With an authenticator, whoever learns your password still does not get
          in.
        </p>
        <Fault of={begin.error} />
        <Button className="justify-self-start" disabled={begin.isPending} onClick={() => begin.mutate()}>
          Set up a second factor
        </Button>
      </>
    );
  }
  return (
    <form className="grid gap-3" onSubmit={form.handleSubmit((v) => confirm.mutate(v))}>
      <div className="flex flex-wrap items-start gap-4">
        <img src={begin.data.image} alt="The secret as a QR code" className="size-44 rounded bg-white p-1" />
        <div className="grid min-w-48 flex-1 gap-2">
          <p>Let your authenticator read this, or type the secret into it:</p>
          <code className="select-all break-all">{begin.data.secret}</code>
        </div>
      </div>
      <Field label="Code that it shows" faults={p?.at("code")}>
        {(id) => (
          <input
            id={id}
            autoComplete="one-time-code"
            required
            className={`${inputLook} max-w-40`}
            {...form.register("code")}
          />
        )}
      </Field>
      <Fault of={confirm.error && !p?.errors.length ? confirm.error : undefined} />
      <Button kind="main" type="submit" className="justify-self-start" disabled={confirm.isPending}>
        It is set up
      </Button>
    </form>
  );
}

function SetUp() {
  const qc = useQueryClient();
  const me = useQuery(asks.me).data;
  const form = useForm({ defaultValues: { password: "" } });
  const off = useMutation({
    mutationFn: (v: { password: string }) => ask(api.POST("/session/second-factor/removal", { body: v })),
    onSuccess: () => qc.invalidateQueries({ queryKey: ["me"] }),
  });
  const p = off.error instanceof Problem ? off.error : undefined;
  const left = me?.secondFactor.recoveryCodes ?? 0;
  return (
    <>
      <p>
        ● It is set. {left === 1 ? "One recovery code is" : `${left} recovery codes are`} left
        {left < 3 ? "; set it up anew for others" : ""}.
      </p>
      {me?.secondFactor.demanded ? (
        <p className="text-muted">It is demanded of your role here, and cannot be taken off.</p>
      ) : (
        <form className="grid gap-2" onSubmit={form.handleSubmit((v) => off.mutate(v))}>
          <Field label="To take it off, give your password" faults={p?.at("password")}>
            {(id) => (
              <input
                id={id}
                type="password"
                autoComplete="current-password"
                required
                className={`${inputLook} max-w-72`}
                {...form.register("password")}
              />
            )}
          </Field>
          <Fault of={off.error && !p?.errors.length ? off.error : undefined} />
          <Button type="submit" kind="danger" className="justify-self-start" disabled={off.isPending}>
            Take it off
          </Button>
        </form>
      )}
    </>
  );
}
