// What an inventory is called, and how its cells are written.
import { byteRate, bytes, percent, rate } from "./format";
import type { Column, Inventory } from "./types";

/** The kinds that have an inventory, by layer. */
export const kinds: { layer: string; kinds: [string, string][] }[] = [
  {
    layer: "guest",
    kinds: [
      ["vm", "VMs"],
      ["vdisk", "virtual disks"],
    ],
  },
  {
    layer: "host",
    kinds: [
      ["cluster", "clusters"],
      ["host", "hosts"],
      ["hba_port", "adapter ports"],
      ["device", "host LUNs"],
      ["path", "paths"],
    ],
  },
  { layer: "datastore", kinds: [["datastore", "datastores"]] },
  {
    layer: "fabric",
    kinds: [
      ["fabric", "fabrics"],
      ["switch", "switches"],
      ["switch_port", "switch ports"],
      ["isl", "inter-switch links"],
      ["zone", "zones"],
    ],
  },
  {
    layer: "front end",
    kinds: [
      ["array", "arrays"],
      ["controller", "controllers"],
      ["target_port", "array ports"],
      ["volume", "volumes"],
      ["share", "file shares"],
    ],
  },
  {
    layer: "back end",
    kinds: [
      ["pool", "pools"],
      ["raid_group", "RAID groups"],
      ["drive", "drives"],
      ["enclosure", "enclosures"],
      ["fan", "fans"],
      ["power_supply", "power supplies"],
    ],
  },
];

export function cell(column: Column, value: unknown): string {
  if (value === null || value === undefined) return "–";
  if (typeof value !== "number") return String(value);
  switch (column.type) {
    case "bytes":
      return bytes(value);
    case "bytes_s":
      return byteRate(value);
    case "share":
      return percent(value);
  }
  return Number.isInteger(value) ? value.toLocaleString("en-GB") : rate(value);
}

/** Rows for a file: the address, then the cells as they came. */
export function rows(inventory: Inventory): (string | number | null)[][] {
  const head = ["ref", ...inventory.columns.map((c) => c.name)];
  return [head, ...inventory.rows.map((r) => [r.ref, ...(r.cells as (string | number | null)[])])];
}

/** The columns of which some row says something. */
export function telling(inventory: Inventory): number[] {
  return inventory.columns.flatMap((_, k) =>
    k === 0 || inventory.rows.some((r) => r.cells[k] !== null && r.cells[k] !== undefined) ? [k] : [],
  );
}

/** The operators a condition on a column may have, with their words. */
export const operators = (column: Column): [string, string][] =>
  column.type === "text"
    ? [
        ["=", "is"],
        ["!=", "is not"],
        ["~", "contains"],
      ]
    : [
        ["=", "is"],
        [">", "above"],
        ["<", "below"],
        ["!=", "is not"],
      ];
