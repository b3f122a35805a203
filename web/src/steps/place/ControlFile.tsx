/** A control file before it is kept: which column is what, in which unit, and what the server read. */
import { useQuery } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { http, sent, type Schemas } from "../../api/client";
import { useAsk, useProject } from "../../api/queries";
import { Button, fixed, Pick, Quiet } from "../../kit";
import { lengthIn, UNIT_CHOICES, UNITS } from "../../kit/units";

export interface Reading {
  file: string;
  text: string;
}
type Role = NonNullable<Schemas["ControlText"]["columns"]>[number];
const ROLES: [Role, string][] = [
  ["name", "name"],
  ["n", "northing"],
  ["e", "easting"],
  ["h", "height"],
  ["s", "deviation"],
  ["sn", "deviation northing"],
  ["se", "deviation easting"],
  ["sh", "deviation height"],
  ["remark", "remark"],
  ["skip", "not used"],
];

/** What somebody said of the columns of files that begin like this one. */
const keyOf = (text: string) => {
  const first = text.split(/\r?\n/).find((line) => line.trim() && !line.startsWith("#")) ?? "";
  const named = first.replace(/[-+\d.,]+/g, "").trim(); // the header, or the separators of a line without one
  return `lantern.columns.${named.slice(0, 120)}`;
};
function kept(text: string): Role[] | null {
  try {
    const found = JSON.parse(localStorage.getItem(keyOf(text)) ?? "null") as Role[] | null;
    return found?.every((r) => ROLES.some(([key]) => key === r)) ? found : null;
  } catch {
    return null;
  }
}

export function ControlFile({ id, reading, close }: { id: string; reading: Reading; close: () => void }) {
  const [columns, chooseColumns] = useState<Role[] | null>(() => kept(reading.text));
  const setColumns = (chosen: Role[]) => {
    chooseColumns(chosen);
    localStorage.setItem(keyOf(reading.text), JSON.stringify(chosen));
  };
  const [unit, setUnit] = useState<Schemas["ControlText"]["unit"]>("m");
  const part = useProject(id).data?.part ?? null;
  const body = { ...reading, columns, unit, part };
  const path = { params: { path: { project_id: id } } };
  const { data, error } = useQuery({
    queryKey: ["control-preview", reading.file, reading.text, columns, unit],
    queryFn: () => sent(http.POST("/api/projects/{project_id}/control/preview", { ...path, body })),
    placeholderData: (before) => before,
    retry: false,
  });
  const take = useAsk(id, () => sent(http.PUT("/api/projects/{project_id}/control", { ...path, body })), close);
  const roles = (columns ?? data?.columns ?? []) as Role[];
  const faults = data?.findings.filter((f) => f.severity === "fault") ?? [];
  return (
    <Dialog.Root open onOpenChange={(o) => !o && close()}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/40" />
        <Dialog.Content
          className="fixed top-[8%] left-1/2 z-50 flex max-h-[84%] w-[820px] -translate-x-1/2 flex-col rounded border border-rule bg-card p-5 shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="text-[17px] font-medium">What {reading.file} says</Dialog.Title>
          <Quiet>
            {data
              ? `Values are separated by ${{ ",": "commas", ";": "semicolons", "\t": "tabs", " ": "spaces" }[data.separator] ?? data.separator}${data.decimal_comma ? ", decimals by a comma" : ""}. Check which column is northing and which is easting.`
              : error
                ? error.message
                : "Reading …"}
          </Quiet>
          <div className="my-2 flex flex-wrap gap-x-5 gap-y-1">
            {roles.map((r, k) => (
              <Pick
                key={k}
                label={data?.header[k] ? `${k + 1} “${data.header[k]}”` : `Column ${k + 1}`}
                value={r}
                onChange={(e) => setColumns(roles.map((x, j) => (j === k ? (e.target.value as Role) : x)))}
                options={ROLES}
              />
            ))}
            <Pick label="Unit" value={unit} onChange={(e) => setUnit(e.target.value as "m")} options={UNIT_CHOICES} />
          </div>
          <div className="min-h-24 flex-1 overflow-auto border-y border-rule">
            <table className="w-full text-[13px]">
              <thead>
                <tr className="text-left text-[12px] text-quiet">
                  <th className="py-1 font-normal">point</th>
                  {["easting", "northing", "height"].map((axis) => (
                    <th key={axis} className="text-right font-normal">
                      {axis} {UNITS[unit].name}
                    </th>
                  ))}
                  <th className="text-right font-normal">± mm</th>
                  <th className="pl-4 font-normal">role</th>
                  <th className="font-normal">remark</th>
                </tr>
              </thead>
              <tbody>
                {data?.points.map((p) => (
                  <tr key={p.name} className="border-t border-rule/50">
                    <td className="py-0.5 font-mono">{p.name}</td>
                    {p.enh.map((v, k) => (
                      <td key={k} className="figure">
                        {v === null ? "–" : lengthIn(v, unit)}
                      </td>
                    ))}
                    <td className="figure text-quiet">
                      {p.sigma.every((v) => v === null)
                        ? ""
                        : p.sigma.map((v) => fixed(v === null ? null : 1000 * v)).join(" ")}
                    </td>
                    <td className="pl-4">{p.role}</td>
                    <td className="text-quiet">{p.remark}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
          {data?.findings.map((f) => (
            <p
              key={f.code + f.subject + f.message}
              className={`mt-1 text-[13px] ${f.severity === "fault" ? "text-parted" : "text-slack"}`}
            >
              {f.message}
            </p>
          ))}
          <div className="mt-3 flex gap-2">
            <Button
              main
              busy={take.isPending}
              onClick={() => take.mutate(undefined)}
              why={
                data?.usable
                  ? ""
                  : faults.length
                    ? "the file has faults: correct it or the columns"
                    : "nothing is read yet"
              }
            >
              Keep {data?.points.length ?? 0} points
            </Button>
            <Button onClick={close}>Leave it</Button>
          </div>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
