import { describe, expect, it } from "vitest";
import { layerTone, layerWords } from "./layers";
import { parts, readSearch, toggled, writeSearch } from "./search";

describe("the address bar", () => {
  it("keeps what it knows and drops the rest", () => {
    expect(readSearch({ of: "vm:a@x", from: "-2h", to: "now", dir: "write", evil: "x" })).toEqual({
      of: "vm:a@x",
      from: "-2h",
      to: "now",
      dir: "write",
    });
    expect(readSearch({ of: "", dir: "sideways", from: 7, to: null })).toEqual({
      of: undefined,
      from: undefined,
      to: undefined,
      dir: undefined,
    });
    expect(readSearch({ of: "x".repeat(700) }).of).toBeUndefined();
  });

  it("writes text that can be read and typed", () => {
    expect(writeSearch({ of: "vm:manifest-db-02@hyp-northmole", from: "-2h", to: undefined })).toBe(
      "?of=vm:manifest-db-02@hyp-northmole&from=-2h",
    );
    expect(writeSearch({})).toBe("");
    expect(writeSearch({ of: "share:filer:/a b&c" })).toBe("?of=share:filer:%2Fa+b%26c");
  });

  it.each(["vm:a@x", "share:filer:/drift", "a name & more=1", "volume:é?#"])("reads back what it wrote: %s", (of) => {
    const again = Object.fromEntries(new URLSearchParams(writeSearch({ of, dir: "read" })));
    expect(readSearch(again)).toMatchObject({ of, dir: "read" });
  });
});

describe("lists in the address bar", () => {
  it("take a part in and out", () => {
    expect(toggled(undefined, "a", "|")).toBe("a");
    expect(toggled("a|b", "c", "|")).toBe("a|b|c");
    expect(toggled("a|b", "a", "|")).toBe("b");
    expect(toggled("a", "a", "|")).toBeUndefined();
    expect(parts("a||b", "|")).toEqual(["a", "b"]);
    expect(parts(undefined, "|")).toEqual([]);
  });

  it("are kept with what else an inventory needs", () => {
    const search = { kind: "vm", where: "tier=1;dead>0", q: "mani", sort: "-host", unfold: "group:vm/0/0:tier 1" };
    const again = Object.fromEntries(new URLSearchParams(writeSearch(search)));
    expect(readSearch(again)).toMatchObject(search);
    expect(readSearch({ where: "x".repeat(9000) }).where).toBeUndefined();
  });
});

describe("the six strata", () => {
  it("have a tone and words each, and so has what is not told apart", () => {
    const names = [
      "guest",
      "host",
      "datastore",
      "fabric",
      "front end",
      "back end",
      "above the array",
      "in the array",
      "not told apart",
    ];
    expect(Object.keys(layerTone)).toEqual(names);
    expect(Object.keys(layerWords)).toEqual(names);
    expect(new Set(Object.values(layerTone)).size).toBe(names.length);
  });
});
