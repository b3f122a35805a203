/** The list of projects, and a new one. */
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { http, sent } from "../api/client";
import { cache, tellError, useProjects } from "../api/queries";
import { Button, grouped, Pick, Quiet } from "../kit";

export function Projects({ open }: { open: (id: string) => void }) {
  const { data, error, refetch } = useProjects();
  const [removing, setRemoving] = useState<{ id: string; name: string } | null>(null);
  useEffect(() => {
    document.title = "Taut Lantern";
    const timer = setInterval(() => void refetch(), 4000); // the demo fills in while one looks
    return () => clearInterval(timer);
  }, [refetch]);
  async function remove() {
    if (!removing) return;
    try {
      await sent(http.DELETE("/api/projects/{project_id}", { params: { path: { project_id: removing.id } } }));
    } catch (e) {
      tellError(e);
    }
    setRemoving(null);
    void cache.invalidateQueries({ queryKey: ["projects"] });
  }
  return (
    <main className="mx-auto h-full max-w-4xl overflow-auto px-8 py-10">
      <header className="mb-8 flex items-end gap-4">
        <img src="/lantern.svg" alt="" width={44} height={44} />
        <div className="flex-1">
          <h1 className="text-[26px] leading-tight font-semibold">Taut Lantern</h1>
          <p className="text-quiet">Ties scan stations together, shows whether the strings hold, hands over what a drawing needs.</p>
        </div>
        <NewProject open={open} />
      </header>
      {error && <Quiet>The list could not be read: {String(error.message)}. It is tried again by itself.</Quiet>}
      {data?.length === 0 && <Quiet>No project yet. Make one, then drop the E57 files of its stations on the page.</Quiet>}
      <ul className="divide-y divide-rule border-y border-rule">
        {data?.map((p) => (
          <li key={p.id} className="flex items-center gap-4 px-2 hover:bg-card">
            <button type="button" className="flex flex-1 cursor-pointer items-baseline gap-4 py-3 text-left" onClick={() => open(p.id)}>
              <span className="flex-1 text-[16px] font-medium">{p.name}</span>
              {p.demo && <span className="text-[12.5px] text-quiet">demo site</span>}
              <span className="figure w-28 text-[13px]">{p.stations} stations</span>
              <span className="figure w-36 text-[13px]">{grouped(p.points)} points</span>
              <span className="figure w-24 text-[13px] text-quiet">{p.created_at.slice(0, 10)}</span>
            </button>
            <Button onClick={() => setRemoving(p)} aria-label={`Delete ${p.name}`}>
              Delete
            </Button>
          </li>
        ))}
      </ul>
      <Dialog.Root open={removing !== null} onOpenChange={(o) => !o && setRemoving(null)}>
        <Dialog.Portal>
          <Dialog.Overlay className="fixed inset-0 bg-ink/40" />
          <Dialog.Content className="fixed top-1/3 left-1/2 w-96 -translate-x-1/2 rounded border border-rule bg-card p-5 shadow-lg">
            <Dialog.Title className="text-[17px] font-medium">Delete {removing?.name}?</Dialog.Title>
            <Dialog.Description className="my-2 text-[14px] text-quiet">Its scans, links and deliveries are no longer reachable.</Dialog.Description>
            <div className="flex gap-2">
              <Button main onClick={() => void remove()}>
                Delete the project
              </Button>
              <Button onClick={() => setRemoving(null)}>Keep it</Button>
            </div>
          </Dialog.Content>
        </Dialog.Portal>
      </Dialog.Root>
    </main>
  );
}

function NewProject({ open }: { open: (id: string) => void }) {
  const [shown, setShown] = useState(false);
  const [name, setName] = useState("");
  const [unit, setUnit] = useState<"m" | "mm" | "ft">("m");
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
        <Dialog.Content className="fixed top-1/4 left-1/2 w-96 -translate-x-1/2 rounded border border-rule bg-card p-5 shadow-lg" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-[17px] font-medium">New project</Dialog.Title>
          <form
            onSubmit={(e) => {
              e.preventDefault();
              if (name.trim()) void make();
            }}
          >
            <label className="block text-[13.5px]">
              Name of the site
              <input autoFocus value={name} maxLength={300} onChange={(e) => setName(e.target.value)} className="mt-1 mb-3 w-full rounded border border-rule bg-paper px-2 py-1" />
            </label>
            <Pick label="Lengths are shown in" value={unit} onChange={(e) => setUnit(e.target.value as "m")} options={[["m", "metres"], ["mm", "millimetres"], ["ft", "feet"]]} />
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
