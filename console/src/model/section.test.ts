import { describe, expect, it } from "vitest";
import { type Card, cardHeight, layout } from "./section";
import type { NodeFigures, SectionNode, SectionView } from "./types";

const figures = (over: Partial<NodeFigures> = {}): NodeFigures =>
  ({ condition: "steady", headline: "h", affected_by: [], iops: 1, bytes_s: 1, ...over }) as NodeFigures;

const node = (
  kind: string,
  name: string,
  layer: string,
  row: number,
  over: Partial<SectionNode> = {},
): SectionNode => ({
  ref: `${kind}:${name}@x`,
  kind,
  layer,
  row,
  name,
  ...over,
});

/** A VM with two disks through two fabrics to a volume on a pool. */
function view(hosts = 1): SectionView {
  const nodes: SectionNode[] = [];
  const links: { from: number; to: number; state: "active" | "standby"; ways: number }[] = [];
  const add = (n: SectionNode) => nodes.push(n) - 1;
  const link = (from: number, to: number, state: "active" | "standby" = "active") =>
    links.push({ from, to, state, ways: 1 });
  const volume = add(node("volume", "vol-1", "front end", 11));
  const pool = add(node("pool", "pool 1", "back end", 20, { owner: "heron" }));
  link(volume, pool);
  const targets = ["0A", "0B", "1A"].map((t, k) => {
    const far = add(node("switch_port", `2${k}`, "fabric", 8, { owner: `skerry-${k}` }));
    const target = add(node("target_port", t, "front end", 9, { owner: "heron" }));
    link(far, target, t === "1A" ? "standby" : "active");
    link(target, volume, t === "1A" ? "standby" : "active");
    return far;
  });
  for (let h = 0; h < hosts; h++) {
    const vm = add(node("vm", `vm-${h}`, "guest", 0, { tier: h === 0 ? "1" : "2" }));
    const host = add(node("host", `lighthouse-${h}`, "host", 2));
    for (const d of [1, 2]) {
      const disk = add(node("vdisk", `vm-${h} disk ${d}`, "guest", 1));
      link(vm, disk);
      link(disk, host);
    }
    const hba = add(node("hba_port", "hba0", "host", 5, { owner: `lighthouse-${h}` }));
    const near = add(node("switch_port", `0${h}`, "fabric", 6, { owner: "skerry-a1" }));
    link(host, hba);
    link(hba, near);
    for (const [k, t] of targets.entries()) link(near, t, k === 2 ? "standby" : "active");
  }
  return {
    section: { focus: "vm:vm-0@x", nodes, links, routes: [], more: 0, vms: hosts, breaks: [] },
    figures: nodes.map((n) => figures(n.kind === "pool" ? { condition: "failing" } : {})),
  } as unknown as SectionView;
}

const titles = (cards: Card[]) => cards.map((c) => c.title);

describe("a section's layout", () => {
  const d = layout(view(), 900);

  it("makes one card of a cable's two ends, and of a VM with its disks", () => {
    expect(titles(d.cards)).toContain("vm-0");
    expect(d.cards.find((c) => c.title === "vm-0")?.line).toContain("2 disks");
    expect(titles(d.cards)).toContain("skerry-a1 / 00");
    expect(titles(d.cards)).toContain("heron 0A");
    expect(titles(d.cards).some((t) => t.includes("hba0") || t.includes("disk"))).toBe(false);
  });

  it("keeps every card in its band, in the frame, and off its neighbours", () => {
    for (const c of d.cards) {
      expect(c.x).toBeGreaterThanOrEqual(-0.01);
      expect(c.x + c.width).toBeLessThanOrEqual(900.01);
      const band = d.bands.find((b) => c.y >= b.y && c.y + cardHeight <= b.y + b.height);
      expect(band, c.title).toBeDefined();
      for (const o of d.cards)
        if (o !== c && o.y === c.y)
          expect(o.x >= c.x + c.width || c.x >= o.x + o.width, `${c.title} ${o.title}`).toBe(true);
    }
    expect(d.bands.map((b) => b.layer)).toEqual(["guest", "host", "datastore", "fabric", "front end", "back end"]);
  });

  it("draws ribbons downward only, standby ones thin, and marks the cause once", () => {
    for (const r of d.ribbons) {
      const [from, to] = [d.cards[r.from], d.cards[r.to]];
      expect((from?.y ?? 0) < (to?.y ?? 0)).toBe(true);
      if (r.state !== "active") expect(r.width).toBeLessThan(2);
    }
    expect(d.cards.filter((c) => c.mark).map((c) => c.title)).toEqual(["heron pool 1"]);
    expect(d.cards.find((c) => c.title === "heron 1A")?.idle).toBe(true);
    expect(d.cards.find((c) => c.focus)?.title).toBe("vm-0");
  });

  it("folds many alike but keeps the focus and what is in trouble", () => {
    const many = view(30);
    const bad = many.section.nodes.findIndex((n) => n.name === "vm-17");
    many.figures[bad] = figures({ condition: "strained" });
    const folded = layout(many, 900);
    const guests = folded.cards.filter((c) => c.y === folded.cards.find((x) => x.focus)?.y);
    expect(titles(guests).sort()).toEqual(["28 more VMs", "vm-0", "vm-17"]);
    expect(guests.find((c) => c.folded.length)?.nodes).toHaveLength(28);
    expect(folded.cards.length).toBeLessThan(20);
  });

  it("does not mark a part whose whole carries the mark", () => {
    const v = view();
    v.figures[1] = figures({ condition: "failing", within: "pool:other" });
    expect(layout(v, 900).cards.every((c) => c.mark === "")).toBe(true);
  });
});

describe("a section of groups and of two sites", () => {
  it("draws a group as one card that can be asked to unfold", () => {
    const v = view(1);
    v.section.nodes.push(node("drive", "rg-00", "back end", 22, { ref: "group:drive/22/1:rg-00", count: 8 }));
    v.section.links.push({ from: 1, to: v.section.nodes.length - 1, state: "active", ways: 1 });
    v.figures.push(figures({ headline: "8 drives" }));
    const card = layout(v, 900).cards.find((c) => c.group);
    expect(card).toMatchObject({ group: "group:drive/22/1:rg-00", title: "rg-00", line: "8 drives" });
  });

  it("keeps the one site left and the other right, and folds each by itself", () => {
    const v = view(10);
    const sites = ["Northmole", "Southmole"];
    v.section.nodes.forEach((n, k) => {
      if (n.kind === "vm" || n.kind === "host") n.site = sites[k % 2];
    });
    for (const [k, site] of sites.entries()) {
      v.section.nodes.push(node("pool", `pool at ${site}`, "back end", 20, { site }));
      v.section.links.push({ from: 0, to: v.section.nodes.length - 1, state: "active", ways: 1 });
      v.figures.push(figures());
      expect(k).toBeLessThan(2);
    }
    const d = layout(v, 900);
    expect(d.sites).toEqual(sites);
    const middle = (c: Card) => c.x + c.width / 2;
    for (const c of d.cards.filter((c) => c.site === "Northmole")) expect(middle(c)).toBeLessThan(450);
    for (const c of d.cards.filter((c) => c.site === "Southmole")) expect(middle(c)).toBeGreaterThan(450);
    expect(d.cards.filter((c) => c.folded.length > 0 && c.site).length).toBeGreaterThan(1);
  });

  it("keeps every card within the frame", () => {
    const v = view(3);
    for (const [k, site] of ["Northmole", "Southmole", "Southmole", "Southmole", "Southmole"].entries()) {
      v.section.nodes.push(node("pool", `pool ${k}`, "back end", 20, { site }));
      v.section.links.push({ from: 0, to: v.section.nodes.length - 1, state: "active", ways: 1 });
      v.figures.push(figures());
    }
    for (const c of layout(v, 700).cards) {
      expect(c.x).toBeGreaterThanOrEqual(0);
      expect(c.x + c.width).toBeLessThanOrEqual(700.001);
    }
  });

  it("has no sides where all lies at one site", () => {
    expect(layout(view(2), 900).sites).toEqual([]);
  });
});
