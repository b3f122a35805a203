/** Sending files over a connection that breaks: what the server has is never sent again, and nothing is lost. */
import { sha256 } from "@noble/hashes/sha2.js";
import { bytesToHex } from "@noble/hashes/utils.js";
import { afterEach, expect, test, vi } from "vitest";

// outside a browser there is no page that addresses are relative to; the client takes hold of fetch when it is made
type Answer = (input: Request | string, init?: RequestInit) => Promise<Response>;
const net = vi.hoisted(() => {
  const held: { answer: Answer | null } = { answer: null };
  globalThis.fetch = (input, init) => held.answer!(input as Request, init);
  const Real = globalThis.Request;
  globalThis.Request = class extends Real {
    constructor(input: RequestInfo | URL, init?: RequestInit) {
      super(typeof input === "string" ? new URL(input, "http://lantern.test") : input, init);
    }
  };
  return held;
});
import { useNotices } from "./queries";
import { upload, useUploads } from "./uploads";

const json = (body: unknown, status = 200) =>
  new Response(JSON.stringify(body), { status, headers: { "Content-Type": "application/json" } });
const PIECE = 4 << 20;

/** A server that keeps what it gets, and fails at the requests that `fails` names. */
function server(
  fails: (k: number) => Response | "broken" | null,
  open: { id: string; received: number; pieces: { offset: number; size: number; sha256: string }[] }[] = [],
) {
  const state = { received: 0, offsets: [] as number[], puts: 0, begun: 0 };
  net.answer = async (input, init) => {
    const url = typeof input === "string" ? input : input.url;
    if (url.includes("/uploads?size=")) return json(open);
    if (url.endsWith("/uploads"))
      return (++state.begun, json({ id: "u", received: 0, size: 0, state: "receiving" }, 201));
    const offset = Number(new URL(url, "http://x").searchParams.get("offset"));
    const failure = fails(state.puts++);
    state.offsets.push(offset);
    if (failure === "broken") throw new TypeError("network");
    if (failure) return failure;
    state.received = offset + (init!.body as Blob).size;
    return json({ received: state.received });
  };
  return state;
}
const file = (size: number) => new File([new Uint8Array(size)], "a.e57");
afterEach(() => {
  vi.useRealTimers();
  useUploads.setState({ files: [] });
  useNotices.setState({ notices: [] });
});

test("a file goes in pieces, one after another", async () => {
  const s = server(() => null);
  await upload("p", [file(2.5 * PIECE)]);
  expect(s.offsets).toEqual([0, PIECE, 2 * PIECE]);
  expect(s.received).toBe(2.5 * PIECE);
  expect(useUploads.getState().files).toEqual([]);
});

test("an upload that broke off goes on where it stopped when the file begins with the same bytes, else it begins anew", async () => {
  const digest = bytesToHex(sha256(new Uint8Array(PIECE)));
  const piece = { offset: 0, size: PIECE };
  const mine = server(() => null, [{ id: "u", received: PIECE, pieces: [{ ...piece, sha256: digest }] }]);
  await upload("p", [file(2 * PIECE)]);
  expect([mine.offsets, mine.begun]).toEqual([[PIECE], 0]);
  const other = server(
    () => null,
    [
      {
        id: "v",
        received: PIECE,
        pieces: [{ ...piece, sha256: digest.replace(/^./, (c) => (c === "0" ? "1" : "0")) }],
      },
    ],
  );
  await upload("p", [file(2 * PIECE)]);
  expect([other.offsets, other.begun]).toEqual([[0, PIECE], 1]);
});

test("a broken connection is tried again by itself", async () => {
  vi.useFakeTimers();
  const s = server((k) => (k === 1 ? "broken" : null));
  const done = upload("p", [file(2 * PIECE)]);
  await vi.runAllTimersAsync();
  await done;
  expect(s.offsets).toEqual([0, PIECE, PIECE]);
  expect(s.received).toBe(2 * PIECE);
});

test("the server's word on where to go on is followed", async () => {
  const s = server((k) => (k === 0 ? json({ code: "wrong_offset", subject: String(PIECE) }, 409) : null));
  await upload("p", [file(2 * PIECE)]);
  expect(s.offsets).toEqual([0, PIECE]);
});

test("a file that is refused is named, and the next one goes all the same", async () => {
  const s = server((k) =>
    k === 0 ? json({ code: "too_large", detail: "a.e57 is too large", remedy: "split it" }, 422) : null,
  );
  await upload("p", [file(10), new File([new Uint8Array(20)], "b.e57")]);
  expect(useUploads.getState().files.map((f) => [f.project, f.name, f.error])).toEqual([
    ["p", "a.e57", "a.e57 is too large"],
  ]);
  expect(useNotices.getState().notices.at(-1)?.remedy).toBe("split it");
  expect(s.received).toBe(20);
});
