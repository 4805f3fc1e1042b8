import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useForm, useWatch } from "react-hook-form";
import { api, ask, Problem } from "../api";
import { FormDialog } from "../dialog";
import { Button, Fault, Field, inputLook } from "../ui";
import { Steps } from "./link";

const empty = {
  name: "",
  kind: "libvirt",
  address: "",
  user: "",
  password: "",
  certificates: "",
  nbdPorts: "",
  scratch: "",
};

type Values = typeof empty;

/** bodyOf is what the service is asked to add, or to test. */
function bodyOf(v: Values) {
  const { name, kind, address, user, password } = v;
  if (kind === "lab") return { name, kind, address, user, password };
  return {
    name,
    kind,
    address,
    libvirt: {
      certificates: v.certificates || undefined,
      nbdPorts: v.nbdPorts || undefined,
      scratch: v.scratch || undefined,
    },
  };
}

/** PlatformDialog adds a platform, or only tests whether it could be. */
export function PlatformDialog({ onClose }: { onClose: () => void }) {
  const qc = useQueryClient();
  const form = useForm({ defaultValues: empty });
  const kind = useWatch({ control: form.control, name: "kind" });
  const test = useMutation({
    mutationFn: () => ask(api.POST("/platforms/test", { body: bodyOf(form.getValues()) })),
  });
  const tested = test.error instanceof Problem ? test.error : undefined;
  return (
    <FormDialog
      title="Add a platform"
      intro="The connection is tested step by step before it is added."
      form={form}
      act={(v) => {
        test.reset();
        return ask(api.POST("/platforms", { body: bodyOf(v) }));
      }}
      done={() => {
        qc.invalidateQueries({ queryKey: ["platforms"] });
        qc.invalidateQueries({ queryKey: ["machines"] });
        onClose();
      }}
      onClose={onClose}
      go="Add"
      beside={
        <Button className="mr-auto" onClick={() => test.mutate()} disabled={test.isPending}>
          Test only
        </Button>
      }
    >
      {(refused) => {
        const refusal = refused ?? tested;
        const text = (k: keyof Values, label: string, hint?: string, optional = false) => (
          <Field label={label} hint={hint} faults={[...(refusal?.at(k) ?? []), ...(refusal?.at(`libvirt.${k}`) ?? [])]}>
            {(id, d) => (
              <input
                id={id}
                aria-describedby={d}
                type={k === "password" ? "password" : "text"}
                autoComplete="off"
                required={!optional}
                className={inputLook}
                {...form.register(k)}
              />
            )}
          </Field>
        );
        return (
          <>
            <div className="grid gap-3 sm:grid-cols-2">
              {text("name", "Name", "What people call it, such as harbour.")}
              <Field label="Kind" faults={refusal?.at("kind")}>
                {(id) => (
                  <select id={id} className={inputLook} {...form.register("kind")}>
                    <option value="libvirt">QEMU and KVM through libvirt</option>
                    <option value="lab">lab, the stand-in</option>
                  </select>
                )}
              </Field>
            </div>
            {kind === "lab" ? (
              <>
                {text("address", "Address", "Such as http://lab.norhaven.example:7414; a full name or an IP address.")}
                <div className="grid gap-3 sm:grid-cols-2">
                  {text("user", "User")}
                  {text("password", "Password")}
                </div>
              </>
            ) : (
              <>
                {text(
                  "address",
                  "Hosts",
                  "libvirt URIs with spaces between, such as qemu+tls://kvm1.skerry.example/system.",
                )}
                {text(
                  "certificates",
                  "Certificates",
                  "Folder on this site's host with cacert.pem, clientcert.pem and clientkey.pem. Needed unless the hypervisor runs on this host.",
                  true,
                )}
                <div className="grid gap-3 sm:grid-cols-2">
                  {text("nbdPorts", "NBD ports of the hosts", "10809-10872 if left empty.", true)}
                  {text("scratch", "Scratch folder on the hosts", "Beside each disk if left empty.", true)}
                </div>
              </>
            )}
            {test.data && !refused && <Steps t={test.data} />}
            <Fault of={!refused && tested && !tested.errors.length ? tested : undefined} />
          </>
        );
      }}
    </FormDialog>
  );
}
