import { describe, expect, it } from "vitest";
import { due, figure, nameOf, namePattern, never, protocolOf, sourcesSentence, stateOf } from "./sources";
import type { SourceInfo } from "./types";

const source = (name: string, part: Record<string, unknown> = {}) =>
  ({ name, kind: "libvirt", paused: false, secrets: [], ...part }) as unknown as SourceInfo;
const health = (state: string, missing: string[] = []) => ({ health: { state, missing } });

describe("an address", () => {
  it.each([
    ["qemu:///system", "libvirt", false],
    ["qemu+tls://farne.example/system", "libvirt", true],
    ["qemu://farne.example/system", "libvirt", true],
    ["tgt://", "iscsi-target", false],
    ["https://exporter.example/feed", "feed", false],
  ])("%s is of kind %s", (address, kind, certificate) => {
    const p = protocolOf(address);
    expect(p?.kind).toBe(kind);
    expect(p?.certificate).toBe(certificate);
    expect(p?.token).toBe(kind === "feed");
  });
  it.each(["", "farne", "qemu+carrier-pigeon://farne/system", "/run/socket"])("%s is none", (address) => {
    expect(protocolOf(address)).toBeUndefined();
  });
  it("gives a name that may be used", () => {
    for (const a of ["qemu+tls://Farne.example/system", "https://10.0.0.1/feed", "tgt:///run/x", "qemu:///system"])
      expect(nameOf(a)).toMatch(namePattern);
    expect(nameOf("qemu+tls://Farne.example/system")).toBe("farne");
  });
});

describe("the list", () => {
  it("says in one sentence how sources do", () => {
    expect(sourcesSentence([])).toBe("Nothing is collected yet.");
    expect(sourcesSentence([source("a", health("collecting"))])).toBe("The one source reports.");
    expect(
      sourcesSentence([
        source("a", health("failing")),
        source("b", health("failing")),
        source("c", { known: { silent: true, age_s: 900 } }),
        source("d", health("first minutes")),
      ]),
    ).toBe("Of 4 sources, a and b fail; c is silent; d has just begun.");
    expect(sourcesSentence([source("old", { kind: "former" }), source("a", health("collecting"))])).toBe(
      "The one source reports.",
    );
  });
  it("marks each state with a shape of its own", () => {
    expect(stateOf(source("a", health("failing"))).mark).toBe("failing");
    expect(stateOf(source("a", health("collecting", ["pools"]))).mark).toBe("strained");
    expect(stateOf(source("a", health("paused"))).mark).toBe("silent");
    expect(stateOf(source("a", health("collecting"))).mark).toBe("");
    expect(stateOf(source("a", { known: { age_s: -1 } })).word).toBe("inventory only");
  });
});

describe("figures", () => {
  it("carry their unit", () => {
    expect(figure(1.25 * 2 ** 30, "B")).toBe("1.25 GiB");
    expect(figure(2048, "B/s")).toBe("2.00 KiB/s");
    expect(figure(100, "1/s")).toBe("100 1/s");
  });
  it("know what is due, and what never was", () => {
    expect(due("2026-03-02T09:00:30Z", Date.parse("2026-03-02T09:00:00Z"))).toBe("in 30 s");
    expect(due("2026-03-02T08:59:00Z", Date.parse("2026-03-02T09:00:00Z"))).toBe("any moment");
    expect(never("0001-01-01T00:00:00Z")).toBe(true);
    expect(never("2026-03-02T09:00:00Z")).toBe(false);
  });
});
