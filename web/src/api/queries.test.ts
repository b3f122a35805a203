/** What is read again when the server says that something changed, and what an error tells people. */
import { beforeEach, describe, expect, test, vi } from "vitest";

class Source {
  static last: Source;
  closed = false;
  private hear = new Map<string, (e: unknown) => void>();
  constructor(readonly url: string) {
    Source.last = this;
  }
  addEventListener = (name: string, f: (e: unknown) => void) => void this.hear.set(name, f);
  say = (name: string, data?: object) => this.hear.get(name)?.({ data: JSON.stringify(data) });
  close = () => void (this.closed = true);
}
vi.stubGlobal("EventSource", Source);
vi.stubGlobal("window", {});
const { bytes, early, refusal, Refusal, sent } = await import("./client");
const { cache, listen, tellError, useNotice } = await import("./queries");
const again = vi.spyOn(cache, "invalidateQueries").mockResolvedValue();
const asked = () => again.mock.calls.map(([q]) => (q?.queryKey as string[] | undefined)?.join("/") ?? "everything");

beforeEach(() => again.mockClear());

describe("events", () => {
  const change = (topic: string) => {
    const stop = listen("p");
    Source.last.say("change", { project: "p", topic });
    stop();
    expect(Source.last.closed).toBe(true);
    return asked();
  };
  test("of a job's progress ask for jobs alone", () => expect(change("job")).toEqual(["p/jobs"]));
  test("of the network ask for all that hangs on it, but never for points again", () => {
    const keys = change("network");
    expect(keys).toEqual(expect.arrayContaining(["p/network", "p/stations", "p/control", "p/sections", "p/project", "p/journal", "p/deliveries"]));
    expect(keys).not.toContain("p/tiles");
  });
  test("of stations ask for tiles too", () => expect(change("stations")).toContain("p/tiles"));
  test("that are not known ask for the whole project", () => expect(change("something new")).toEqual(["p"]));
  test("that were missed while the connection was lost are made up for, once", () => {
    const stop = listen("p");
    Source.last.say("open");
    expect(asked()).toEqual([]);
    Source.last.say("error");
    Source.last.say("open");
    Source.last.say("open");
    expect(asked()).toEqual(["p"]);
    stop();
  });
});

describe("errors", () => {
  test("say what is wrong and what to do, in the server's words", async () => {
    const body = { code: "conflict", detail: "somebody changed this", remedy: "look again" };
    const call = sent(Promise.resolve({ error: body, response: { status: 409 } as Response }));
    await expect(call).rejects.toMatchObject({ code: "conflict", message: "somebody changed this", remedy: "look again", status: 409 });
    tellError(refusal(body, 409));
    expect(useNotice.getState().notice).toEqual({ message: "Somebody changed this", remedy: "look again", good: false });
    expect(asked()).toEqual(["everything"]); // what was edited on an old state is read again
  });
  test("say that the server does not answer when it does not, and that a fault is one", async () => {
    await expect(sent(Promise.reject(new TypeError("fetch failed")))).rejects.toMatchObject({ code: "unreachable", status: 0 });
    tellError(new RangeError("out of range"));
    expect(useNotice.getState().notice).toMatchObject({ message: "RangeError: out of range", remedy: "reload the page" });
    expect(asked()).toEqual([]);
  });
  test("of bytes are read from the answer, or stand for themselves when it is none", async () => {
    vi.stubGlobal("fetch", async (url: string) => ({ ok: false, status: 404, json: async () => (url === "/a" ? { code: "not_found", detail: "gone", remedy: "" } : Promise.reject(new Error("no json"))) }));
    await expect(bytes("/a")).rejects.toMatchObject({ code: "not_found", message: "gone" });
    await expect(bytes("/b")).rejects.toBeInstanceOf(Refusal);
  });
});

test("what the page asked for early is given once, and a failure is asked for again in the usual way", async () => {
  (window as { early?: object }).early = { "/x": Promise.resolve([1]), "/y": Promise.resolve(null) };
  expect([await early("/x"), await early("/x"), await early("/y"), await early("/z")]).toEqual([[1], null, null, null]);
});
