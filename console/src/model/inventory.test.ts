import { describe, expect, it } from "vitest";
import { cell, kinds, operators, rows, telling } from "./inventory";
import type { Column, Inventory } from "./types";

const column = (type: Column["type"], name = "x"): Column => ({ name, head: name, type, doc: "" });

describe("cells of an inventory", () => {
  it.each([
    ["text", "abc", "abc"],
    ["number", 12000, "12,000"],
    ["number", 1.5, "1.50"],
    ["bytes", 1024 ** 4, "1.00 TiB"],
    ["bytes_s", 1024 ** 3, "1.00 GiB/s"],
    ["share", 0.63, "63 %"],
    ["number", null, "–"],
    ["text", undefined, "–"],
  ] as const)("%s %s is %s", (type, value, want) => {
    expect(cell(column(type), value)).toBe(want);
  });

  it("go to a file as they came, with the address first", () => {
    const inventory = {
      columns: [column("text", "name"), column("bytes", "bytes")],
      rows: [{ ref: "vm:a@x", cells: ["a", 5] }],
    } as unknown as Inventory;
    expect(rows(inventory)).toEqual([
      ["ref", "name", "bytes"],
      ["vm:a@x", "a", 5],
    ]);
  });

  it("leave out columns that say nothing, never the name", () => {
    const inventory = {
      columns: [column("text", "name"), column("text", "a"), column("text", "b")],
      rows: [
        { ref: "1", cells: [null, null, "x"] },
        { ref: "2", cells: [null, null, null] },
      ],
    } as unknown as Inventory;
    expect(telling(inventory)).toEqual([0, 2]);
  });

  it("compare as their type allows", () => {
    expect(operators(column("text")).map(([o]) => o)).toEqual(["=", "!=", "~"]);
    expect(operators(column("bytes")).map(([o]) => o)).toContain(">");
  });

  it("are of every kind once", () => {
    const all = kinds.flatMap((l) => l.kinds.map(([k]) => k));
    expect(new Set(all).size).toBe(all.length);
    for (const k of ["vm", "vdisk", "datastore", "volume", "host", "hba_port", "path", "switch", "switch_port", "zone"])
      expect(all).toContain(k);
  });
});
