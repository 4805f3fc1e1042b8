import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useForm } from "react-hook-form";
import { api, ask, type Schemas } from "../api";
import { useMay } from "../asks";
import { ConfirmDialog, FormDialog } from "../dialog";
import { Button, Card, Empty, Fault, Field, Heads, inputLook, td } from "../ui";

type Server = Schemas["DNSServer"];

/** DNSServers are those whose names runbooks change. */
export function DNSServers() {
  const may = useMay();
  const qc = useQueryClient();
  const [adds, setAdds] = useState(false);
  const [removed, setRemoved] = useState<Server>();
  const q = useQuery({
    queryKey: ["dns-servers"],
    queryFn: () => ask(api.GET("/dns-servers")),
    enabled: may.operate,
  });
  if (!may.operate) return null;
  const again = () => qc.invalidateQueries({ queryKey: ["dns-servers"] });
  return (
    <Card title="DNS servers" aside="whose names runbooks change in a failover">
      <Fault of={q.error} />
      {q.data?.length ? (
        <div className="overflow-x-auto">
          <table className="w-full" aria-label="DNS servers">
            <Heads of={["Name", "Address", "Key", "Runbooks may change", ""]} />
            <tbody>
              {q.data.map((s) => (
                <tr key={s.id} className="border-line border-t">
                  <td className={`${td} font-semibold`}>{s.name}</td>
                  <td className={td}>{s.address}</td>
                  <td className={td}>
                    {s.keyName.replace(/\.$/, "")} ({s.algorithm})
                  </td>
                  <td className={td}>{s.names.join(", ")}</td>
                  <td className={`${td} text-right`}>
                    {may.administer && <Try s={s} />}{" "}
                    {may.administer && (
                      <Button small onClick={() => setRemoved(s)}>
                        Forget…
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      ) : (
        q.data && <Empty>None is known. A runbook can change names at a server that takes signed updates.</Empty>
      )}
      {may.administer && (
        <div className="border-line border-t px-4 py-2">
          <Button small onClick={() => setAdds(true)}>
            Add a DNS server…
          </Button>
        </div>
      )}
      {adds && (
        <AddDialog
          done={() => {
            again();
            setAdds(false);
          }}
          onClose={() => setAdds(false)}
        />
      )}
      {removed && (
        <ConfirmDialog
          title={`Forget ${removed.name}`}
          intro="Its key is forgotten too. Steps that name it fail from then on."
          ask="the server's name"
          name={removed.name}
          act={() => ask(api.DELETE("/dns-servers/{id}", { params: { path: { id: removed.id } } }))}
          done={() => {
            again();
            setRemoved(undefined);
          }}
          onClose={() => setRemoved(undefined)}
          stay="Keep it"
          go="Forget it"
        />
      )}
    </Card>
  );
}

/** Try asks a server, and says what came of it. */
function Try({ s }: { s: Server }) {
  const name = (s.names[0] ?? "").replace(/^\*\./, "");
  const m = useMutation({
    mutationFn: () => ask(api.POST("/dns-servers/{id}/test", { params: { path: { id: s.id } }, body: { name } })),
  });
  return (
    <>
      {m.data && (
        <span role="status" className={`mr-2 text-xs ${m.data.ok ? "text-good-ink" : "text-over-ink"}`}>
          {m.data.ok ? "●" : "✕"} {m.data.text}
        </span>
      )}
      <Fault of={m.error} />
      <Button small disabled={m.isPending} onClick={() => m.mutate()}>
        Test
      </Button>
    </>
  );
}

function AddDialog({ done, onClose }: { done: () => void; onClose: () => void }) {
  const form = useForm({
    defaultValues: { name: "", address: "", keyName: "", algorithm: "hmac-sha256", secret: "", names: "" },
  });
  return (
    <FormDialog
      title="Add a DNS server"
      intro="It has to take dynamic updates (RFC 2136) under a key (TSIG)."
      form={form}
      act={(v) =>
        ask(
          api.POST("/dns-servers", {
            body: { ...v, names: v.names.split(/[\s,]+/).filter(Boolean) },
          }),
        )
      }
      done={done}
      onClose={onClose}
      go="Add it"
    >
      {(refusal) => (
        <>
          <Field label="Name" faults={refusal?.at("name")}>
            {(id) => <input id={id} className={inputLook} {...form.register("name")} />}
          </Field>
          <Field label="Address" hint="host:port" faults={refusal?.at("address")}>
            {(id) => (
              <input id={id} placeholder="ns.skerry.example:53" className={inputLook} {...form.register("address")} />
            )}
          </Field>
          <Field label="Name of the key" faults={refusal?.at("keyName")}>
            {(id) => <input id={id} className={inputLook} {...form.register("keyName")} />}
          </Field>
          <Field label="Algorithm" faults={refusal?.at("algorithm")}>
            {(id) => (
              <select id={id} className={inputLook} {...form.register("algorithm")}>
                {["hmac-sha256", "hmac-sha384", "hmac-sha512"].map((x) => (
                  <option key={x}>{x}</option>
                ))}
              </select>
            )}
          </Field>
          <Field
            label="Secret of the key"
            hint="Base64, as the server has it. It is never shown again."
            faults={refusal?.at("secret")}
          >
            {(id) => (
              <input id={id} type="password" autoComplete="off" className={inputLook} {...form.register("secret")} />
            )}
          </Field>
          <Field
            label="Names that runbooks may change"
            hint="Between spaces; *.skerry.example is all below it."
            faults={refusal?.at("names")}
          >
            {(id) => <input id={id} className={inputLook} {...form.register("names")} />}
          </Field>
        </>
      )}
    </FormDialog>
  );
}
