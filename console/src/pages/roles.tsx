import type { ComponentProps } from "react";
import { inputLook } from "../ui";

export const roles = [
  ["viewer", "Viewer", "sees everything, changes nothing"],
  ["operator", "Operator", "runs, pauses, pins, serves and lands"],
  ["administrator", "Administrator", "everything"],
] as const;

export function RoleSelect(p: ComponentProps<"select">) {
  return (
    <select className={`${inputLook} min-w-38`} {...p}>
      {roles.map(([v, text, what]) => (
        <option key={v} value={v} title={what}>
          {text}
        </option>
      ))}
    </select>
  );
}
