import { useQueryClient } from "@tanstack/react-query";
import { useNavigate } from "@tanstack/react-router";
import { useEffect, useRef, useState } from "react";
import { ServiceError, send } from "../model/service";
import type { Identity } from "../model/types";
import { Rod } from "../ui/Glyph";

/** Signs in by a one-time link (its code stands behind #, so no server log holds it) or by password. */
export function SignInPage() {
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [problem, setProblem] = useState("");
  const [busy, setBusy] = useState(false);
  const queries = useQueryClient();
  const navigate = useNavigate();
  const tried = useRef("");

  const enter = async (path: string, body: unknown) => {
    setBusy(true);
    setProblem("");
    try {
      const who = await send<Identity>("POST", path, body);
      queries.clear();
      queries.setQueryData(["who"], who);
      const back = (window.history.state as { back?: string } | null)?.back;
      await navigate({
        to: back?.startsWith("/") && !back.startsWith("/sign-in") ? back : "/",
        replace: true,
      } as never);
    } catch (e) {
      setProblem(e instanceof ServiceError ? e.message : "That did not work.");
      setBusy(false);
    }
  };

  // biome-ignore lint/correctness/useExhaustiveDependencies: each one-time code is tried once
  useEffect(() => {
    const redeem = () => {
      const code = window.location.hash.slice(1);
      if (!code || tried.current === code) return;
      tried.current = code;
      window.history.replaceState(window.history.state, "", "/sign-in");
      void enter("/session/link", { code });
    };
    redeem();
    window.addEventListener("hashchange", redeem); // the link pasted over this very page
    return () => window.removeEventListener("hashchange", redeem);
  }, []);

  const field = "mt-1 w-full rounded-md border border-line bg-card px-3 h-9 text-[14px]";
  return (
    <main className="grid min-h-screen grid-cols-[1fr_1.2fr] max-[900px]:grid-cols-1">
      <div className="flex flex-col justify-center px-[12%] py-10">
        <div className="flex items-center gap-3">
          <Rod />
          <span className="text-[15px] font-semibold">Dowsing Rod</span>
        </div>
        <h1 className="mt-8 text-[24px] font-semibold tracking-tight">Sign in</h1>
        <form
          className="mt-5 max-w-[340px] space-y-4"
          onSubmit={(e) => {
            e.preventDefault();
            void enter("/session", { name, password });
          }}
        >
          <label className="block">
            <span className="text-quiet">Account</span>
            <input
              className={field}
              value={name}
              onChange={(e) => setName(e.target.value)}
              autoComplete="username"
              required
            />
          </label>
          <label className="block">
            <span className="text-quiet">Password</span>
            <input
              className={field}
              type="password"
              value={password}
              onChange={(e) => setPassword(e.target.value)}
              autoComplete="current-password"
              required
            />
          </label>
          {problem && (
            <p role="alert" className="border-l-2 border-magenta pl-3 text-[13px]">
              {problem}
            </p>
          )}
          <button
            type="submit"
            disabled={busy}
            className="h-9 w-full cursor-pointer rounded-md bg-ink font-medium text-paper disabled:opacity-60"
          >
            {busy ? "Signing in …" : "Sign in"}
          </button>
        </form>
        <p className="mt-6 max-w-[340px] text-quiet">
          With a one-time link, open it in this browser. An admin makes one with <code>dowse account add</code>; the
          demo prints one at its start.
        </p>
      </div>
      <Ground />
    </main>
  );
}

const tones = ["guest", "host", "datastore", "fabric", "front", "back"];

/** The cut through the ground: six strata, and a route running down. */
function Ground() {
  return (
    <div aria-hidden="true" className="relative overflow-hidden max-[900px]:hidden">
      <svg
        viewBox="0 0 700 800"
        preserveAspectRatio="xMidYMid slice"
        className="absolute inset-0 h-full w-full"
        role="presentation"
      >
        {tones.map((t, i) => {
          const y = 120 + i * 112;
          const wave = `M0 ${y + 14 * Math.sin(i)} C 180 ${y - 34 + 10 * i}, 420 ${y + 46 - 8 * i}, 700 ${y - 6 + 9 * Math.cos(2 * i)} V800 H0 Z`;
          return <path key={t} d={wave} fill={`var(--${t})`} />;
        })}
        <path
          d="M350 96 V250 C350 330 240 330 240 420 S330 560 350 640 V760 M350 250 C350 330 470 330 470 420 S370 560 350 640"
          fill="none"
          stroke="var(--paper)"
          strokeWidth="7"
          strokeLinecap="round"
          opacity="0.85"
        />
        <circle cx="350" cy="96" r="11" fill="var(--ink)" />
      </svg>
    </div>
  );
}
