import { afterEach, describe, expect, it, vi } from "vitest";
import { ask, ServiceError, send } from "./service";

const answer = (status: number, body: unknown, type = "application/json") =>
  vi.fn(
    async () =>
      new Response(body === null ? null : JSON.stringify(body), { status, headers: { "Content-Type": type } }),
  );

afterEach(() => vi.unstubAllGlobals());

describe("asking the service", () => {
  it("leaves out what is not set, and encodes what is", async () => {
    const fetch = answer(200, { ok: true });
    vi.stubGlobal("fetch", fetch);
    expect(await ask("/strata", { of: "vm:a b@x", from: undefined, to: "" })).toEqual({ ok: true });
    expect((fetch.mock.calls[0] as unknown[])[0]).toBe("/api/v1/strata?of=vm%3Aa+b%40x");
  });

  it("hands on the service's own words, kind and candidates", async () => {
    vi.stubGlobal(
      "fetch",
      answer(409, {
        type: "urn:dowsing-rod:problem:ambiguous-name",
        detail: "could be any of several",
        errors: [{ value: "pool:p1@heron" }, { value: "pool:p1@gannet" }],
      }),
    );
    const error = await ask("/section").catch((e: unknown) => e);
    expect(error).toBeInstanceOf(ServiceError);
    expect(error).toMatchObject({
      status: 409,
      kind: "ambiguous-name",
      message: "could be any of several",
      candidates: ["pool:p1@heron", "pool:p1@gannet"],
    });
  });

  it("says so when nobody answers, or somebody else does", async () => {
    vi.stubGlobal("fetch", async () => {
      throw new TypeError("failed");
    });
    expect(await ask("/estate").catch((e: unknown) => e)).toMatchObject({ status: 0, kind: "unreachable" });
    vi.stubGlobal("fetch", async () => new Response("<html>", { status: 502, statusText: "Bad Gateway" }));
    expect(await ask("/estate").catch((e: unknown) => e)).toMatchObject({
      status: 502,
      message: "The service answered 502 Bad Gateway.",
    });
  });

  it("lets a cancelled question be cancelled", async () => {
    vi.stubGlobal("fetch", async () => {
      throw new DOMException("stopped", "AbortError");
    });
    expect(await ask("/estate").catch((e: unknown) => e)).toBeInstanceOf(DOMException);
  });

  it("sends JSON, and takes an empty answer", async () => {
    const fetch = answer(204, null);
    vi.stubGlobal("fetch", fetch);
    expect(await send("DELETE", "/session")).toBeUndefined();
    await send("POST", "/session", { name: "ops" });
    const [, init] = fetch.mock.calls[1] as unknown as [string, RequestInit];
    expect(init.body).toBe('{"name":"ops"}');
    expect(init.credentials).toBe("same-origin");
  });
});
