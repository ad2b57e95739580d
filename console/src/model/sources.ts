import { byteRate, bytes, lasting, rate } from "./format";
import type { Mark } from "./section";
import type { SourceInfo } from "./types";

/** What an address stands for, as it is typed: the protocol, in words, and what is asked for besides. */
export interface Protocol {
  kind: "libvirt" | "iscsi-target" | "feed";
  words: string;
  token: boolean;
  certificate: boolean;
  verified: boolean;
}

export function protocolOf(address: string): Protocol | undefined {
  const text = address.trim();
  if (/^https?:\/\//.test(text))
    return {
      kind: "feed",
      words: text.startsWith("https") ? "a feed over HTTPS" : "a feed without TLS: only from this machine",
      token: true,
      certificate: false,
      verified: text.startsWith("https"),
    };
  if (/^tgt:\/\//.test(text))
    return {
      kind: "iscsi-target",
      words: "the iSCSI target daemon of the service's machine",
      token: false,
      certificate: false,
      verified: false,
    };
  const uri = /^[a-z]+(?:\+([a-z]+))?:\/\/([^/?]*)/.exec(text);
  if (!uri) return undefined;
  const transport = uri[1] ?? (uri[2] ? "tls" : "unix");
  const by: Record<string, string> = {
    unix: "by a socket of the service's machine",
    tcp: "over TCP, unprotected",
    tls: "over TLS",
  };
  if (!by[transport]) return undefined;
  return {
    kind: "libvirt",
    words: `a libvirt daemon, ${by[transport]}`,
    token: false,
    certificate: transport === "tls",
    verified: transport === "tls",
  };
}

/** A name for a source, made of its address. */
export function nameOf(address: string): string {
  const host = /:\/\/(?:[^/@]*@)?([^/:?]*)/.exec(address)?.[1] ?? "";
  const kind = protocolOf(address)?.kind;
  const first = host.split(".")[0] || (kind === "iscsi-target" ? "target" : kind === "libvirt" ? "hypervisor" : "");
  return first
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-+|-+$/g, "");
}

export const namePattern = /^[a-z0-9]([a-z0-9-]{0,62}[a-z0-9])?$/;

/** How a source does: its mark and a word. */
export function stateOf(s: SourceInfo): { mark: Mark; word: string } {
  if (s.kind === "former") return { mark: "", word: "removed" };
  if (!s.health) {
    if (s.known && s.known.age_s < 0) return { mark: "", word: "inventory only" };
    return s.known?.silent ? { mark: "silent", word: "silent" } : { mark: "", word: "reporting" };
  }
  if (s.health.state === "failing") return { mark: "failing", word: "failing" };
  if (s.health.state === "paused") return { mark: "silent", word: "paused" };
  if (s.health.missing.length > 0) return { mark: "strained", word: "in part" };
  return { mark: "", word: s.health.state };
}

/** The sentence above the list. */
export function sourcesSentence(all: SourceInfo[]): string {
  const now = all.filter((s) => s.kind !== "former");
  const failing = now.filter((s) => s.health?.state === "failing");
  const silent = now.filter((s) => !s.health && s.known?.silent);
  const young = now.filter((s) => s.health?.state === "first minutes" || s.health?.state === "waiting");
  const part = (list: SourceInfo[], one: string, many: string) =>
    list.length === 0 ? [] : [`${names(list)} ${list.length === 1 ? one : many}`];
  const bad = [
    ...part(failing, "fails", "fail"),
    ...part(silent, "is silent", "are silent"),
    ...part(young, "has just begun", "have just begun"),
  ];
  if (now.length === 0) return "Nothing is collected yet.";
  if (bad.length === 0) {
    if (now.length === 1) return "The one source reports.";
    return now.length === 2 ? "Both sources report." : `All ${now.length} sources report.`;
  }
  return `Of ${now.length} sources, ${bad.join("; ")}.`;
}

function names(list: SourceInfo[]): string {
  const shown = list.slice(0, 3).map((s) => s.name);
  if (list.length > 3) return `${shown.join(", ")} and ${list.length - 3} more`;
  return shown.length > 1 ? `${shown.slice(0, -1).join(", ")} and ${shown.at(-1)}` : (shown[0] ?? "");
}

/** A figure of a comparison in its unit. */
export function figure(value: number, unit: string): string {
  if (unit === "B") return bytes(value);
  if (unit === "B/s") return byteRate(value);
  return `${rate(value)} ${unit}`;
}

/** When something is due, seen from now. */
export function due(at: string, now: number): string {
  const s = (Date.parse(at) - now) / 1000;
  return s > 0.5 ? `in ${lasting(s)}` : "any moment";
}

/** The zero time stands for never. */
export const never = (at: string | undefined) => !at || at.startsWith("0001-");
