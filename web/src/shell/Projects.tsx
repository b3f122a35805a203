/** The list of projects, and a new one. */
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { http, sent } from "../api/client";
import { cache, tellError, useBin, useProjects } from "../api/queries";
import { Button, grouped, Line, Pick, Quiet } from "../kit";
import { confirm } from "../kit/confirm";
import { UNIT_CHOICES, type Unit } from "../kit/units";

export function Projects({ open }: { open: (id: string) => void }) {
  const { data, error, refetch } = useProjects();
  useEffect(() => {
    document.title = "Taut Lantern";
    const timer = setInterval(() => void refetch(), 4000); // the demo fills in while one looks
    return () => clearInterval(timer);
  }, [refetch]);
  const remove = (p: { id: string; name: string }) =>
    confirm({
      title: `Delete ${p.name}?`,
      text: "It goes into the bin, from which it comes back whole for 30 days.",
      yes: "Delete the project",
      no: "Keep it",
      then: () =>
        void again(sent(http.DELETE("/api/projects/{project_id}", { params: { path: { project_id: p.id } } }))),
    });
  return (
    <main className="mx-auto h-full max-w-4xl overflow-auto px-8 py-10">
      <header className="mb-8 flex items-end gap-4">
        <img src="/lantern.svg" alt="" width={44} height={44} />
        <div className="flex-1">
          <h1 className="text-[26px] leading-tight font-semibold">Taut Lantern</h1>
          <p className="text-quiet">
            Ties scan stations together, shows whether the strings hold, hands over what a drawing needs.
          </p>
        </div>
        <NewProject open={open} />
      </header>
      {!data && !error && (
        <p role="status" className="text-quiet">
          Reading the projects …
        </p>
      )}
      {error && <Quiet>The list could not be read: {String(error.message)}. It is tried again by itself.</Quiet>}
      {data?.length === 0 && (
        <Quiet>No project yet. Make one, then drop the E57 files of its stations on the page.</Quiet>
      )}
      <ul className="divide-y divide-rule border-y border-rule">
        {data?.map((p) => (
          <li key={p.id} className="flex items-center gap-4 px-2 hover:bg-card">
            <button
              type="button"
              className="flex flex-1 cursor-pointer items-baseline gap-4 py-3 text-left"
              onClick={() => open(p.id)}
            >
              <span className="flex-1 text-[16px] font-medium">{p.name}</span>
              {p.demo && <span className="text-[12.5px] text-quiet">demo site</span>}
              <span className="figure w-28 text-[13px]">{p.stations} stations</span>
              <span className="figure w-36 text-[13px]">{grouped(p.points)} points</span>
              <span className="figure w-24 text-[13px] text-quiet">{p.created_at.slice(0, 10)}</span>
            </button>
            <Button onClick={() => remove(p)} aria-label={`Delete ${p.name}`}>
              Delete
            </Button>
          </li>
        ))}
      </ul>
      <Bin />
    </main>
  );
}

/** Wait for a change, tell what went wrong, and read both lists again. */
async function again(change: Promise<unknown>) {
  try {
    await change;
  } catch (e) {
    tellError(e);
  }
  for (const key of ["projects", "bin"]) void cache.invalidateQueries({ queryKey: [key] });
}

function Bin() {
  const rows = useBin().data ?? [];
  if (!rows.length) return null;
  const path = (p: { id: string }) => ({ params: { path: { project_id: p.id } } });
  return (
    <section aria-label="Bin" className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">Bin</h2>
      <ul className="divide-y divide-rule border-y border-rule">
        {rows.map((p) => (
          <li key={p.id} className="flex items-center gap-3 px-2 py-2 text-[14px]">
            <span className="flex-1">{p.name}</span>
            <span className="text-[13px] text-quiet">kept until {p.until.slice(0, 10)}</span>
            <Button
              aria-label={`Bring back ${p.name}`}
              onClick={() => void again(sent(http.POST("/api/bin/{project_id}/restore", path(p))))}
            >
              Bring back
            </Button>
            <Button
              aria-label={`Delete ${p.name} for good`}
              onClick={() =>
                confirm({
                  title: `Delete ${p.name} for good?`,
                  text: "Its scans, links, drawings and deliveries leave the disk. This cannot be taken back.",
                  yes: "Delete it for good",
                  no: "Keep it in the bin",
                  then: () => void again(sent(http.DELETE("/api/bin/{project_id}", path(p)))),
                })
              }
            >
              Delete for good
            </Button>
          </li>
        ))}
      </ul>
    </section>
  );
}

function NewProject({ open }: { open: (id: string) => void }) {
  const [shown, setShown] = useState(false);
  const [name, setName] = useState("");
  const [unit, setUnit] = useState<Unit>("m");
  async function make() {
    try {
      const { id } = await sent(http.POST("/api/projects", { body: { name, unit } }));
      void cache.invalidateQueries({ queryKey: ["projects"] });
      open(id);
    } catch (e) {
      tellError(e);
    }
  }
  return (
    <Dialog.Root open={shown} onOpenChange={setShown}>
      <Dialog.Trigger asChild>
        <button type="button" className="cursor-pointer rounded border border-action bg-action px-3.5 py-1.5 text-card">
          New project
        </button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 bg-ink/40" />
        <Dialog.Content
          className="fixed top-1/4 left-1/2 w-96 -translate-x-1/2 rounded border border-rule bg-card p-5 shadow-lg"
          aria-describedby={undefined}
        >
          <Dialog.Title className="mb-3 text-[17px] font-medium">New project</Dialog.Title>
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (name.trim()) void make();
            }}
          >
            <Line label="Name of the site" value={name} onChange={setName} />
            <Pick
              label="Lengths are shown in"
              value={unit}
              onChange={(e) => setUnit(e.target.value as Unit)}
              options={UNIT_CHOICES}
            />
            <div className="mt-4">
              <Button main type="submit" why={name.trim() ? "" : "a project needs a name"}>
                Make the project
              </Button>
            </div>
          </form>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
