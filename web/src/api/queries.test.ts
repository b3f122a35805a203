/** What is read again when the server says that something changed, and what an error tells people. */
import { QueryObserver } from "@tanstack/react-query";
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
const { bytes, refusal, Refusal, sent } = await import("./client");
const { Cache } = await import("./cache");
const { cache, dismiss, listen, tell, tellError, unwind, useLine, useNotices } = await import("./queries");
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
    expect(keys).toEqual(
      expect.arrayContaining([
        "p/network",
        "p/stations",
        "p/control",
        "p/sections",
        "p/project",
        "p/journal",
        "p/deliveries",
      ]),
    );
  });
  test("of stations ask for slabs too", () => expect(change("stations")).toContain("p/slab"));
  test("that are not known ask for the whole project", () => expect(change("something new")).toEqual(["p"]));
  test("that were missed before a connection stands are made up for, and what could not be read is read again", async () => {
    vi.useFakeTimers();
    cache.setQueryData(["p", "network"], "as it was a while ago");
    const gone = () => Promise.reject(new Error("gone"));
    await cache.fetchQuery({ queryKey: ["p", "files"], queryFn: gone, retry: false }).catch(() => undefined);
    const stop = listen("p");
    vi.advanceTimersByTime(10);
    Source.last.say("hello");
    expect(again).toHaveBeenCalledOnce();
    const stale = again.mock.calls[0]![0]!.predicate!;
    expect(
      cache
        .getQueryCache()
        .findAll({ predicate: stale })
        .map((q) => q.queryKey),
    ).toEqual([
      ["p", "network"],
      ["p", "files"],
    ]);
    Source.last.say("error");
    expect(useLine.getState().open).toBe(false);
    vi.advanceTimersByTime(600);
    Source.last.say("hello");
    expect([useLine.getState().open, again.mock.calls.length]).toEqual([true, 2]);
    stop();
  });
  test("that fall silent mean that the line is lost: it is seen and taken up again, ever more rarely", () => {
    vi.useFakeTimers();
    const stop = listen("p");
    Source.last.say("hello");
    const first = Source.last;
    for (let k = 0; k < 6; k++) {
      vi.advanceTimersByTime(10_000);
      first.say("beat");
    }
    expect([Source.last === first, useLine.getState().open]).toEqual([true, true]);
    vi.advanceTimersByTime(31_000);
    expect([first.closed, useLine.getState().open]).toEqual([true, false]);
    const made: Source[] = [];
    for (let k = 0; k < 30; k++) {
      if (Source.last !== made.at(-1)) made.push(Source.last);
      Source.last.say("error");
      vi.advanceTimersByTime(1000);
    }
    expect(made.length).toBeGreaterThan(3);
    expect(made.length).toBeLessThan(9);
    stop();
    vi.useRealTimers();
  });
});

describe("what changes while it is read for the first time", () => {
  test("is read once more when it is here, however often it changed", async () => {
    const own = new Cache();
    let rows: string[] = [];
    const answers: (() => void)[] = [];
    const asks = vi.fn(() => {
      const now = rows;
      return new Promise<string[]>((done) => answers.push(() => done(now)));
    });
    const seen = new QueryObserver(own, { queryKey: ["p", "deliveries"], queryFn: asks, staleTime: 60_000 });
    const stop = seen.subscribe(() => undefined);
    rows = ["Sheet, PDF"];
    void own.invalidateQueries({ queryKey: ["p", "deliveries"] });
    void own.invalidateQueries({ queryKey: ["p"] });
    answers[0]!();
    await vi.waitFor(() => expect(asks).toHaveBeenCalledTimes(2));
    answers[1]!();
    await vi.waitFor(() => expect(seen.getCurrentResult().data).toEqual(["Sheet, PDF"]));
    expect(asks).toHaveBeenCalledTimes(2);
    stop();
  });
});

describe("errors", () => {
  test("say what is wrong and what to do, in the server's words", async () => {
    const body = { code: "conflict", detail: "somebody changed this", remedy: "look again" };
    const call = sent(Promise.resolve({ error: body, response: { status: 409 } as Response }));
    await expect(call).rejects.toMatchObject({
      code: "conflict",
      message: "somebody changed this",
      remedy: "look again",
      status: 409,
    });
    tellError(refusal(body, 409));
    expect(useNotices.getState().notices.at(-1)).toMatchObject({
      message: "Somebody changed this",
      remedy: "look again",
      good: false,
    });
    expect(asked()).toEqual(["everything"]); // what was edited on an old state is read again
  });
  test("say that the server does not answer when it does not, and that a fault is one", async () => {
    await expect(sent(Promise.reject(new TypeError("fetch failed")))).rejects.toMatchObject({
      code: "unreachable",
      status: 0,
    });
    tellError(new RangeError("out of range"));
    expect(useNotices.getState().notices.at(-1)).toMatchObject({
      message: "RangeError: out of range",
      remedy: "reload the page",
    });
    expect(asked()).toEqual([]);
  });
  test("of bytes are read from the answer, or stand for themselves when it is none", async () => {
    vi.stubGlobal("fetch", async (url: string) => ({
      ok: false,
      status: 404,
      json: async () =>
        url === "/a" ? { code: "not_found", detail: "gone", remedy: "" } : Promise.reject(new Error("no json")),
    }));
    await expect(bytes("/a")).rejects.toMatchObject({ code: "not_found", message: "gone" });
    await expect(bytes("/b")).rejects.toBeInstanceOf(Refusal);
  });
});

test("notices stand in the order in which they came, and one that is said again is not shown twice", () => {
  useNotices.setState({ notices: [] });
  for (const words of ["one", "two", "one"]) tell(words);
  expect(useNotices.getState().notices.map((n) => n.message)).toEqual(["two", "one"]);
  dismiss(useNotices.getState().notices[0]!.id);
  expect(useNotices.getState().notices.map((n) => n.message)).toEqual(["one"]);
});

test("undo names the change that the page shows, and says so when there is none", async () => {
  const sent_: unknown[] = [];
  vi.stubGlobal(
    "fetch",
    async (r: Request) => (
      sent_.push([r.url.replace(/.*\/api/, ""), await r.json()]),
      new Response('{"message": "x"}', { status: 200 })
    ),
  );
  useNotices.setState({ notices: [] });
  cache.setQueryData(["q", "project"], { undo: { entry: 41, title: "x" }, redo: null });
  await unwind("q", "undo").catch(() => undefined);
  await unwind("q", "redo");
  expect(
    useNotices
      .getState()
      .notices.map((n) => n.message)
      .at(-1),
  ).toBe("There is nothing to bring back.");
});
