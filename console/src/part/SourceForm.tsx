import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type ComponentProps, type ReactNode, useId, useState } from "react";
import { lasting } from "../model/format";
import { ServiceError, send } from "../model/service";
import { nameOf, namePattern, protocolOf } from "../model/sources";
import type { Probed, SourceSpec } from "../model/types";
import { useAddress } from "../ui/address";
import { Button } from "../ui/Button";
import { ProbeLine } from "./ProbeLine";

const examples = ["qemu:///system", "qemu+tls://farne.example/system", "tgt://", "https://exporter.example/feed"];

const field =
  "mt-1 block w-full rounded-md border border-line bg-card px-2.5 h-8 text-[13px] hover:border-quiet placeholder:text-quiet";

/** Adds a source: its address, what it asks for, a probe step by step, and only then it is kept. */
export function SourceForm() {
  const { change } = useAddress();
  const queries = useQueryClient();
  const [address, setAddress] = useState("");
  const [name, setName] = useState("");
  const [interval, setEvery] = useState("20");
  const [secrets, setSecrets] = useState({ token: "", certificate: "", key: "" });
  const [authorities, setAuthorities] = useState("");
  const [pin, setPin] = useState("");
  const protocol = protocolOf(address);
  const specWith = (pin: string): SourceSpec => ({
    name: name || nameOf(address),
    address: address.trim(),
    interval_s: Number(interval) || 0,
    ...(pin && { pin }),
    ...(authorities && { authorities }),
    ...(protocol?.token && secrets.token && { token: secrets.token }),
    ...(protocol?.certificate && secrets.certificate && { certificate: secrets.certificate, key: secrets.key }),
  });
  const spec = specWith(pin);
  const text = JSON.stringify(spec);
  const probe = useMutation({
    mutationFn: async (s: SourceSpec) => ({
      of: JSON.stringify(s),
      probed: await send<Probed>("POST", "/sources/probe", s),
    }),
  });
  const keep = useMutation({
    mutationFn: (unprobed: boolean) => send<Probed>("POST", `/sources${unprobed ? "?unprobed=true" : ""}`, spec),
    onSuccess: async () => {
      await queries.invalidateQueries();
      change({ source: spec.name });
    },
  });
  const probed = probe.data?.of === text ? probe.data.probed : undefined;
  const named = namePattern.test(spec.name);
  const ready = protocol !== undefined && named && Number(interval) >= 1 && Number(interval) <= 3600;
  const pinThis = (sha: string) => {
    setPin(sha);
    probe.mutate(specWith(sha));
  };
  return (
    <section
      aria-labelledby="add-title"
      className="grid grid-cols-[minmax(320px,400px)_1fr] gap-x-12 max-[900px]:block"
    >
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (ready) probe.mutate(spec);
        }}
      >
        <h2 id="add-title" className="text-[15px] font-semibold">
          Add a source
        </h2>
        <Labelled label="Address" about={protocol ? `Read as ${protocol.words}.` : ""}>
          {(p) => (
            <input
              {...p}
              value={address}
              onChange={(e) => setAddress(e.target.value)}
              spellCheck={false}
              placeholder="qemu+tls://host/system"
              className={field}
            />
          )}
        </Labelled>
        {!address && (
          <ul className="mt-2 flex flex-wrap gap-x-3 gap-y-1 text-[12px]">
            {examples.map((e) => (
              <li key={e}>
                <button
                  type="button"
                  onClick={() => setAddress(e)}
                  className="cursor-pointer text-water underline decoration-line underline-offset-4 hover:decoration-current"
                >
                  {e}
                </button>
              </li>
            ))}
          </ul>
        )}
        <div className="grid grid-cols-[1fr_110px] gap-x-4">
          <Labelled
            label="Name"
            about={
              spec.name && !named ? "Lower-case letters, digits and hyphens, please." : "Objects carry it after the @."
            }
          >
            {(p) => (
              <input
                {...p}
                value={name}
                onChange={(e) => setName(e.target.value)}
                spellCheck={false}
                placeholder={nameOf(address) || "hyp-northmole"}
                className={field}
              />
            )}
          </Labelled>
          <Labelled label="Every" about="seconds">
            {(p) => (
              <input
                {...p}
                value={interval}
                onChange={(e) => setEvery(e.target.value)}
                inputMode="numeric"
                className={`${field} text-right`}
              />
            )}
          </Labelled>
        </div>
        {protocol?.token && (
          <Labelled label="Token" about="Kept encrypted; never shown again.">
            {(p) => (
              <input
                {...p}
                type="password"
                autoComplete="off"
                value={secrets.token}
                onChange={(e) => setSecrets({ ...secrets, token: e.target.value })}
                className={field}
              />
            )}
          </Labelled>
        )}
        {protocol?.certificate && (
          <>
            <Pem
              label="Our client certificate"
              about="PEM, signed by an authority the daemon trusts."
              value={secrets.certificate}
              onText={(certificate) => setSecrets({ ...secrets, certificate })}
            />
            <Pem
              label="Its key"
              about="PEM. Kept encrypted; never shown again."
              value={secrets.key}
              onText={(key) => setSecrets({ ...secrets, key })}
            />
          </>
        )}
        {protocol?.verified && (
          <Pem
            label="Authority of the server's certificate"
            about="PEM; only where this machine does not trust it already."
            value={authorities}
            onText={setAuthorities}
          />
        )}
        {pin && (
          <p className="mt-3 text-[12px]">
            Pinned: <code className="break-all text-[11px]">{pin}</code>{" "}
            <button type="button" onClick={() => setPin("")} className="cursor-pointer text-water underline">
              unpin
            </button>
          </p>
        )}
        <div className="mt-5 flex gap-2">
          <Button type="submit" disabled={!ready || probe.isPending}>
            {probe.isPending ? "Probing …" : "Probe"}
          </Button>
          <Button
            className="!bg-ink !text-paper"
            disabled={!probed?.ok || keep.isPending}
            onClick={() => keep.mutate(false)}
          >
            Keep and collect
          </Button>
          <Button onClick={() => change({ source: undefined })} className="ml-auto">
            Leave
          </Button>
        </div>
        {keep.error && <Told error={keep.error} />}
      </form>
      <div className="pt-1 max-[900px]:pt-6" aria-live="polite">
        {probe.error && !probe.isPending && <Told error={probe.error} />}
        {!probed && !probe.error && (
          <div className="max-w-[480px] text-quiet">
            <p className="font-medium text-ink">
              {probe.isPending ? "Probing …" : "What a probe tries, in this order"}
            </p>
            <p className="mt-1">
              whether the address can be reached, its certificate verified, and we are let in; whether we may read all
              we need; what was recognised; whether its clock agrees with ours; and which objects of other sources it
              would be joined with. Nothing is kept before that.
            </p>
          </div>
        )}
        {probed && (
          <ProbeLine probed={probed}>
            {probed.certificate && !probed.ok && pin !== probed.certificate.sha256 && (
              <div className="my-3 max-w-[640px] rounded-md border border-line bg-card p-3">
                <p>
                  The server shows a certificate of <b>{probed.certificate.subject || "nobody"}</b>, signed by{" "}
                  {probed.certificate.issuer || "nobody"}, valid until {probed.certificate.to.slice(0, 10)}.
                </p>
                <code className="mt-1 block break-all text-[11px] text-quiet">{probed.certificate.sha256}</code>
                <div className="mt-2 flex items-center gap-3">
                  <Button onClick={() => probed.certificate && pinThis(probed.certificate.sha256)}>
                    Pin this certificate
                  </Button>
                  <span className="text-[12px] text-quiet">Compare it with the server's own first.</span>
                </div>
              </div>
            )}
            {!probed.ok && (
              <p className="mt-3">
                <button
                  type="button"
                  onClick={() => keep.mutate(true)}
                  className="cursor-pointer text-water underline underline-offset-4"
                >
                  Keep it all the same
                </button>{" "}
                <span className="text-quiet">
                  if it is only down for now; it is asked every {lasting(Number(interval))}.
                </span>
              </p>
            )}
          </ProbeLine>
        )}
      </div>
    </section>
  );
}

function Told({ error }: { error: unknown }) {
  return (
    <p role="alert" className="mt-3 border-l-2 border-magenta pl-3">
      {error instanceof ServiceError ? error.message : "That did not work."}
    </p>
  );
}

type Control = Pick<ComponentProps<"input">, "id" | "aria-describedby">;

function Labelled({ label, about, children }: { label: string; about?: string; children: (p: Control) => ReactNode }) {
  const id = useId();
  return (
    <div className="mt-4">
      <label htmlFor={id} className="text-[12px] font-medium">
        {label}
      </label>
      {children({ id, "aria-describedby": `${id}-about` })}
      <p id={`${id}-about`} className="mt-1 min-h-[18px] text-[12px] text-quiet">
        {about}
      </p>
    </div>
  );
}

function Pem({
  label,
  about,
  value,
  onText,
}: {
  label: string;
  about: string;
  value: string;
  onText: (v: string) => void;
}) {
  return (
    <Labelled label={label} about={about}>
      {(p) => (
        <textarea
          {...(p as ComponentProps<"textarea">)}
          value={value}
          onChange={(e) => onText(e.target.value)}
          rows={2}
          spellCheck={false}
          placeholder="-----BEGIN …"
          className="mt-1 block w-full rounded-md border border-line bg-card px-2.5 py-1.5 font-mono text-[11px] hover:border-quiet"
        />
      )}
    </Labelled>
  );
}
