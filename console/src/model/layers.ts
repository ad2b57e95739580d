// The strata's six fixed tones, the same in every chart.
export const layerTone: Record<string, string> = {
  guest: "var(--guest)",
  host: "var(--host)",
  datastore: "var(--datastore)",
  fabric: "var(--fabric)",
  "front end": "var(--front)",
  "back end": "var(--back)",
  "above the array": "var(--above)",
  "in the array": "var(--inside)",
  "not told apart": "var(--unsplit)",
};

export const layerWords: Record<string, string> = {
  guest: "The virtual disk in the hypervisor, above the host's device.",
  host: "Waiting in the host's queue before the I/O is sent.",
  datastore: "What the datastore adds around the device, where it times I/O itself.",
  fabric: "Between the host sending and the array's front end answering: adapters, switches, links.",
  "front end": "Array ports, controllers and cache.",
  "back end": "Pool, RAID groups and drives, or the arrays behind a virtualizer.",
  "above the array": "Guest to fabric together: no source times the I/O in between.",
  "in the array": "Front and back end together: the array does not tell them apart.",
  "not told apart": "Time in layers between which no source measures.",
};

/** Bands of time in several layers together, and which layers those are. */
export const mergedLayers = [
  { band: "above the array", layers: ["guest", "host", "datastore", "fabric"] },
  { band: "in the array", layers: ["front end", "back end"] },
];

/** Where something lies that lies in a layer, or in several that no source tells apart. */
export function within(layer: string): string {
  if (layer === "not told apart") return "in layers not told apart";
  return layer === "above the array" || layer === "in the array" ? layer : `in the ${layer}`;
}
