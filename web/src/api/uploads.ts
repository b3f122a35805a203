/** Files on their way in: in pieces, so that a broken connection goes on where it stopped. */
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex } from "@noble/hashes/utils.js";
import { create } from "zustand";
import { http, Refusal, refusal, sent, type Schemas } from "./client";
import { cache, tellError } from "./queries";

const PIECE = 4 << 20;
export interface Sending {
  project: string;
  name: string;
  size: number;
  sent: number;
  error: string;
}
export const useUploads = create<{ files: Sending[] }>(() => ({ files: [] }));

const same = (f: Sending, project: string, name: string) => f.project === project && f.name === name;
function note(project: string, name: string, part: Partial<Sending>) {
  useUploads.setState(({ files }) => ({ files: files.map((f) => (same(f, project, name) ? { ...f, ...part } : f)) }));
}

async function sendPiece(project: string, upload: string, file: File, offset: number): Promise<number> {
  const response = await fetch(`/api/projects/${project}/uploads/${upload}?offset=${offset}`, {
    method: "PUT",
    body: file.slice(offset, offset + PIECE),
    headers: { "Content-Type": "application/octet-stream" },
  });
  const body = (await response.json().catch(() => null)) as Schemas["UploadOut"] & Partial<Schemas["Problem"]>;
  if (response.ok) return body.received;
  if (body?.code === "wrong_offset") return Number(body.subject);
  throw refusal(body, response.status);
}

/** An upload that broke off and holds the beginning of this very file, told by the checksums of its pieces. */
async function toGoOnWith(project: string, file: File) {
  const open = await sent(
    http.GET("/api/projects/{project_id}/uploads", {
      params: { path: { project_id: project }, query: { size: file.size } },
    }),
  );
  for (const upload of open) {
    let same = true;
    for (const piece of upload.pieces) {
      const held = new Uint8Array(await file.slice(piece.offset, piece.offset + piece.size).arrayBuffer());
      same = held.length === piece.size && bytesToHex(sha256(held)) === piece.sha256;
      if (!same) break;
    }
    if (same) return upload;
  }
  return null;
}

async function sendFile(project: string, file: File) {
  const begun =
    (await toGoOnWith(project, file)) ??
    (await sent(
      http.POST("/api/projects/{project_id}/uploads", {
        params: { path: { project_id: project } },
        body: { name: file.name, size: file.size, sha256: "" },
      }),
    ));
  let at = begun.received;
  let tries = 0;
  while (at < file.size) {
    note(project, file.name, { sent: at });
    try {
      at = await sendPiece(project, begun.id, file, at);
      tries = 0;
    } catch (error) {
      const temporary = !(error instanceof Refusal) || error.status === 0 || error.status >= 500;
      if (!temporary || ++tries > 30) throw error;
      note(project, file.name, { error: "the connection broke; trying again" });
      await new Promise((r) => setTimeout(r, Math.min(8000, 300 * 2 ** tries)));
      note(project, file.name, { error: "" });
    }
  }
}

/** Everything dropped: files, and folders with all that is in them. */
export async function filesOf(data: DataTransfer): Promise<File[]> {
  const entries = [...data.items].map((i) => i.webkitGetAsEntry?.()).filter((e): e is FileSystemEntry => Boolean(e));
  if (!entries.length) return [...data.files];
  const out: File[] = [];
  const walk = async (entry: FileSystemEntry): Promise<void> => {
    if (entry.isFile) out.push(await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no)));
    else {
      const reader = (entry as FileSystemDirectoryEntry).createReader();
      for (;;) {
        const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
        if (!some.length) return;
        for (const e of some) await walk(e);
      }
    }
  };
  for (const e of entries) await walk(e);
  return out;
}

/** Send files one after another; what cannot be taken is told by name, the others go on. */
export async function upload(project: string, files: File[]) {
  const sorted = [...files].sort((a, b) => a.name.localeCompare(b.name, "en", { numeric: true }));
  useUploads.setState(({ files: old }) => ({
    files: [
      ...old.filter((f) => !sorted.some((s) => same(f, project, s.name))),
      ...sorted.map((f) => ({ project, name: f.name, size: f.size, sent: 0, error: "" })),
    ],
  }));
  for (const file of sorted) {
    try {
      await sendFile(project, file);
      useUploads.setState(({ files: now }) => ({ files: now.filter((f) => !same(f, project, file.name)) }));
    } catch (error) {
      note(project, file.name, { error: error instanceof Refusal ? error.message : String(error) });
      tellError(error);
    }
    void cache.invalidateQueries({ queryKey: [project, "originals"] });
  }
}
