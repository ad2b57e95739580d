import type { Problem } from "./types";

/** What the service says went wrong, or that it did not answer (status 0). */
export class ServiceError extends Error {
  constructor(
    readonly status: number,
    readonly kind: string,
    message: string,
    readonly candidates: string[] = [],
  ) {
    super(message);
  }
}

const problemType = "urn:dowsing-rod:problem:";

/** Asks the service; parameters that are undefined or empty are left out. */
export async function ask<T>(
  path: string,
  params: Record<string, string | string[] | undefined> = {},
  init?: RequestInit,
): Promise<T> {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries(params))
    for (const one of Array.isArray(value) ? value : [value]) if (one) query.append(name, one);
  const address = `/api/v1${path}${query.size ? `?${query}` : ""}`;
  let response: Response;
  try {
    response = await fetch(address, { credentials: "same-origin", ...init });
  } catch (cause) {
    if (cause instanceof DOMException && cause.name === "AbortError") throw cause;
    throw new ServiceError(0, "unreachable", "The service does not answer. Is it still running?");
  }
  if (response.ok) return response.status === 204 ? (undefined as T) : ((await response.json()) as T);
  throw await explain(response);
}

export function send<T>(method: string, path: string, body?: unknown): Promise<T> {
  return ask<T>(
    path,
    {},
    {
      method,
      headers: { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    },
  );
}

async function explain(response: Response): Promise<ServiceError> {
  let problem: Partial<Problem> = {};
  try {
    problem = (await response.json()) as Partial<Problem>;
  } catch {
    // not the service's own words: say the status
  }
  const kind = (problem.type ?? "").replace(problemType, "");
  const candidates = (problem.errors ?? []).map((e) => String(e.value ?? "")).filter(Boolean);
  return new ServiceError(
    response.status,
    kind,
    problem.detail ?? `The service answered ${response.status} ${response.statusText}.`,
    candidates,
  );
}
