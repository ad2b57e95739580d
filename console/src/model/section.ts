// The geometry of a section: nodes become cards in rows within the bands of their layers, links become
// ribbons between them. No DOM here.
import type { NodeFigures, SectionNode, SectionView } from "./types";

export type Mark = "" | "strained" | "failing" | "silent";

export interface Card {
  key: string;
  nodes: number[]; // indexes into the section's nodes; the first is the card's own
  folded: number[]; // nodes of like kind that a fold stands for
  title: string;
  line: string;
  mark: Mark;
  affected: boolean;
  idle: boolean; // only standby or dead ways lead here
  focus: boolean;
  group?: string; // what to ask to be unfolded, where the card stands for many
  site?: string;
  x: number;
  y: number;
  width: number;
}

export interface Ribbon {
  from: number; // index of a card
  to: number;
  state: string;
  width: number;
  mark: Mark;
  d: string;
}

export interface BandBox {
  layer: string;
  y: number;
  height: number;
}

export interface Drawing {
  cards: Card[];
  ribbons: Ribbon[];
  bands: BandBox[];
  height: number;
  sites: string[]; // where the section lies at two sites: left and right
}

export const cardHeight = 32;
const rowGap = 11;
const pad = 5;
const mostInRow = 6;
const layers = ["guest", "host", "datastore", "fabric", "front end", "back end"];

interface Draft extends Card {
  row: number;
  layer: string;
}

/** Lays out a section in a width of so many pixels. */
export function layout(view: SectionView, width: number): Drawing {
  const { nodes, links, focus } = view.section;
  const of = new Array<number>(nodes.length).fill(-1); // card of each node
  const down = new Map<number, number[]>();
  const up = new Map<number, number[]>();
  for (const l of links) {
    down.set(l.from, [...(down.get(l.from) ?? []), l.to]);
    up.set(l.to, [...(up.get(l.to) ?? []), l.from]);
  }
  const sites = twoSites(nodes);
  const drafts = fold(cards(nodes, view.figures, focus, down, up), view, focus, sites);
  drafts.forEach((c, k) => {
    for (const n of [...c.nodes, ...c.folded]) of[n] = k;
  });
  const joined = join(view, of, drafts);
  for (const [k, c] of drafts.entries()) {
    const ways = joined.filter((r) => r.from === k || r.to === k);
    c.idle = ways.length > 0 && !c.focus && ways.every((r) => r.state !== "active");
  }
  const { bands, height } = place(drafts, joined, width, sites);
  for (const r of joined) r.d = curve(drafts[r.from], drafts[r.to]);
  return { cards: drafts, ribbons: joined, bands, height, sites };
}

/** The two sites of a section whose volumes or back end lie at both; nothing where they do not. */
function twoSites(nodes: SectionNode[]): string[] {
  const below = nodes.filter((n) => n.layer === "back end" || n.kind === "volume");
  const sites = [...new Set(below.map((n) => n.site).filter((s): s is string => !!s))].sort();
  return sites.length === 2 ? sites : [];
}

const owned = (n: SectionNode) =>
  n.owner && n.kind !== "volume" && n.kind !== "device"
    ? n.kind === "switch_port"
      ? `${n.owner} / ${n.name}`
      : `${n.owner} ${n.name}`
    : n.name;

export function markOf(f: NodeFigures | undefined): Mark {
  if (!f || f.within) return "";
  return f.condition === "strained" || f.condition === "failing" || f.condition === "silent" ? f.condition : "";
}

const rank: Mark[] = ["", "silent", "strained", "failing"];
const worse = (a: Mark, b: Mark): Mark => (rank.indexOf(a) >= rank.indexOf(b) ? a : b);

/** Cards before folding: a cable is one card for its two ends; disks lie in their VM, drives in their group. */
function cards(
  nodes: SectionNode[],
  figures: NodeFigures[],
  focus: string,
  down: Map<number, number[]>,
  up: Map<number, number[]>,
): Draft[] {
  const taken = new Set<number>();
  const out: Draft[] = [];
  const oneHost = nodes.filter((n) => n.kind === "host").length === 1;
  const part = (i: number, kind: string, ways: Map<number, number[]>) =>
    (ways.get(i) ?? []).filter((k) => nodes[k]?.kind === kind && !nodes[k]?.count && !taken.has(k));
  const add = (own: number, others: number[], row: number, layer: string, title: string, line: string) => {
    const all = [own, ...others];
    for (const k of all) taken.add(k);
    out.push({
      key: nodes[own]?.ref ?? "",
      nodes: all,
      folded: [],
      title,
      line,
      mark: all.map((k) => markOf(figures[k])).reduce(worse, ""),
      affected: all.some((k) => (figures[k]?.affected_by ?? []).length > 0),
      idle: false,
      focus: all.some((k) => nodes[k]?.ref === focus),
      group: nodes[own]?.count ? nodes[own]?.ref : undefined,
      site: all.map((k) => nodes[k]?.site).find(Boolean),
      x: 0,
      y: 0,
      width: 0,
      row,
      layer,
    });
  };
  const put = (n: SectionNode, i: number) => {
    if (taken.has(i)) return;
    const headline = figures[i]?.headline ?? "";
    if (n.count) return add(i, [], n.row, n.layer, n.name, headline);
    switch (n.kind) {
      case "vm": {
        const disks = part(i, "vdisk", down).filter((k) => nodes[k]?.ref !== focus);
        return add(
          i,
          disks,
          n.row,
          n.layer,
          n.name,
          disks.length > 1 ? `${headline} · ${disks.length} disks` : headline,
        );
      }
      case "hba_port": {
        const ports = part(i, "switch_port", down);
        const port = ports[0];
        const first = port === undefined ? undefined : nodes[port];
        if (port === undefined || !first) return add(i, [], n.row, n.layer, owned(n), headline);
        return add(
          port,
          [i],
          first.row,
          first.layer,
          owned(first),
          `${oneHost ? n.name : owned(n)} · ${figures[port]?.headline ?? headline}`,
        );
      }
      case "isl": {
        const above = (up.get(i) ?? []).join();
        const like = nodes.flatMap((m, k) =>
          k > i && m.kind === "isl" && !m.count && !taken.has(k) && (up.get(k) ?? []).join() === above ? [k] : [],
        );
        const title = n.name.replace(/, link \d+$/, "");
        return add(
          i,
          like,
          n.row,
          n.layer,
          title,
          like.length ? `${like.length + 1} inter-switch links` : "inter-switch link",
        );
      }
      case "switch_port": {
        const target = part(i, "target_port", down)[0];
        const end = target === undefined ? undefined : nodes[target];
        if (n.row < 8 || target === undefined || !end) return add(i, [], n.row, n.layer, owned(n), headline);
        return add(
          target,
          [i],
          end.row,
          end.layer,
          owned(end),
          `${owned(n)} · ${figures[target]?.headline ?? headline}`,
        );
      }
      case "raid_group": {
        const drives = part(i, "drive", down).filter((k) => nodes[k]?.ref !== focus);
        return add(
          i,
          drives,
          n.row,
          n.layer,
          n.name,
          drives.length ? `${headline} · ${drives.length} drives` : headline,
        );
      }
      case "pool":
      case "controller":
        return add(i, [], n.row, n.layer, owned(n), headline);
      default:
        return add(i, [], n.row, n.layer, owned(n), headline);
    }
  };
  for (const [i, n] of nodes.entries()) put(n, i);
  return out;
}

const plural: Record<string, string> = {
  vm: "VMs",
  host: "hosts",
  datastore: "datastores",
  switch_port: "switch ports",
  target_port: "array ports",
  volume: "volumes",
  raid_group: "RAID groups",
  device: "back-end LUNs",
  isl: "links",
};

/** Folds a row of many alike: what is in trouble or in focus stays, the rest becomes one card, of two sites one for each. */
function fold(all: Draft[], view: SectionView, focus: string, sites: string[]): Draft[] {
  const byRow = new Map<number, Draft[]>();
  for (const c of all) byRow.set(c.row, [...(byRow.get(c.row) ?? []), c]);
  const lists: [string, Draft[]][] = [];
  const out: Draft[] = [];
  for (const [row, list] of byRow) {
    if (list.length <= mostInRow) {
      out.push(...list);
      continue;
    }
    const sides = sites.length ? [...sites, undefined] : [undefined];
    const sideOf = (c: Draft) => (c.site && sites.includes(c.site) ? c.site : undefined);
    for (const side of sides) {
      const own = list.filter((c) => sideOf(c) === side);
      if (own.length > (sites.length ? mostInRow / 2 : mostInRow)) lists.push([`${row} ${side ?? ""}`, own]);
      else out.push(...own);
    }
  }
  for (const [row, list] of lists) {
    const stays = list.filter((c) => c.focus || c.mark === "failing" || c.mark === "strained").slice(0, mostInRow - 1);
    const rest = list.filter((c) => !stays.includes(c));
    const folded = rest.flatMap((c) => c.nodes);
    const own = rest.map((c) => c.nodes[0] ?? 0);
    const kind = view.section.nodes[own[0] ?? 0]?.kind ?? "";
    const first = rest[0];
    if (!first) continue;
    const tier1 = own.filter((k) => view.section.nodes[k]?.tier === "1").length;
    out.push(...stays, {
      ...first,
      key: `fold ${row} ${focus}`,
      nodes: own,
      folded,
      title: `${rest.length}${stays.length ? " more" : ""} ${plural[kind] ?? "objects"}`,
      line: kind === "vm" && tier1 ? `${tier1} of tier 1` : "unfold to see each",
      mark: rest.map((c) => c.mark).reduce(worse, ""),
      affected: rest.some((c) => c.affected),
      focus: false,
      site: rest.every((c) => c.site === first.site) ? first.site : undefined,
    });
  }
  return out;
}

/** Ribbons between cards: links between the same two cards become one. */
function join(view: SectionView, of: number[], drafts: Draft[]): Ribbon[] {
  const sums = new Map<string, Ribbon & { ways: number }>();
  for (const l of view.section.links) {
    let [from, to] = [of[l.from] ?? -1, of[l.to] ?? -1];
    if (from < 0 || to < 0 || from === to) continue;
    if ((drafts[from]?.row ?? 0) > (drafts[to]?.row ?? 0)) [from, to] = [to, from];
    const key = `${from} ${to}`;
    const sum = sums.get(key) ?? { from, to, state: l.state, width: 0, mark: drafts[to]?.mark ?? "", d: "", ways: 0 };
    if (l.state === "active") {
      sum.state = "active";
      sum.ways += l.ways;
    }
    sums.set(key, sum);
  }
  const out = [...sums.values()];
  const into = new Map<number, number>();
  for (const r of out) into.set(drafts[r.from]?.row ?? 0, (into.get(drafts[r.from]?.row ?? 0) ?? 0) + r.ways);
  for (const r of out) {
    const part = r.ways / Math.max(1, into.get(drafts[r.from]?.row ?? 0) ?? 1);
    r.width = r.state === "active" ? 2 + 12 * Math.sqrt(part) : 1.5;
  }
  return out;
}

/** Gives every card its place: rows from the surface down, each ordered by what is above it. */
function place(
  drafts: Draft[],
  ribbons: Ribbon[],
  width: number,
  sites: string[],
): { bands: BandBox[]; height: number } {
  const rows = [...new Set(drafts.map((c) => c.row))].sort((a, b) => a - b);
  const bands: BandBox[] = [];
  let y = 0;
  for (const layer of layers) {
    const top = y;
    const own = rows.filter((r) => drafts.some((c) => c.row === r && c.layer === layer));
    y += pad;
    for (const row of own) {
      const list = drafts.filter((c) => c.row === row && c.layer === layer);
      list.forEach((c) => {
        c.y = y;
      });
      spread(list, drafts, ribbons, width, sites);
      y += cardHeight + rowGap;
    }
    if (own.length === 0) y += 20;
    else y -= rowGap - pad;
    bands.push({ layer, y: top, height: y - top });
  }
  return { bands, height: y };
}

function spread(list: Draft[], drafts: Draft[], ribbons: Ribbon[], width: number, sites: string[]) {
  const gap = 20;
  const size = Math.min(list.length === 1 ? 250 : 210, (width - gap * (list.length - 1)) / list.length);
  const center = (c: Draft) => {
    const side = c.site ? sites.indexOf(c.site) : -1;
    if (side >= 0) return width * (0.25 + 0.5 * side); // one site left, the other right
    const at = drafts.indexOf(c);
    const above = ribbons
      .filter((r) => r.to === at)
      .map((r) => drafts[r.from])
      .filter((u): u is Draft => !!u && u.width > 0);
    return above.length ? above.reduce((s, u) => s + u.x + u.width / 2, 0) / above.length : width / 2;
  };
  const wanted = new Map(list.map((c) => [c, center(c)]));
  list.sort((a, b) => (wanted.get(a) ?? 0) - (wanted.get(b) ?? 0) || a.title.localeCompare(b.title));
  // Each as near to what is above it as its neighbours allow, then the row as a whole into the frame.
  let right = Number.NEGATIVE_INFINITY;
  for (const c of list) {
    c.width = size;
    c.x = Math.max((wanted.get(c) ?? 0) - size / 2, right);
    right = c.x + size + gap;
  }
  const drift = list.reduce((s, c) => s + c.x + size / 2 - (wanted.get(c) ?? 0), 0) / list.length;
  const first = list[0]?.x ?? 0;
  const last = (list[list.length - 1]?.x ?? 0) + size;
  const by = Math.min(Math.max(-drift, -first), width - last);
  for (const c of list) c.x += by;
  // Those pushed out at the right push the others back, as far as the frame goes.
  let limit = width - size;
  for (const c of [...list].reverse()) {
    c.x = Math.max(0, Math.min(c.x, limit));
    limit = c.x - gap - size;
  }
}

function curve(a: Card | undefined, b: Card | undefined): string {
  if (!a || !b) return "";
  const [x1, y1, x2, y2] = [a.x + a.width / 2, a.y + cardHeight, b.x + b.width / 2, b.y];
  const middle = (y1 + y2) / 2;
  return `M${x1},${y1}C${x1},${middle} ${x2},${middle} ${x2},${y2}`;
}
