import { ChevronLeft, ChevronRight } from "lucide-react";
import { ToggleGroup } from "radix-ui";
import { windowWords, zone } from "../model/format";
import { last, moving, shift } from "../model/window";
import { useAddress, useWindow } from "../ui/address";
import { Hint } from "../ui/Hint";

const lengths = [
  { text: "30 min", ms: 30 * 60e3 },
  { text: "2 h", ms: 2 * 3600e3 },
  { text: "8 h", ms: 8 * 3600e3 },
  { text: "24 h", ms: 24 * 3600e3 },
];

/** The window of time: its length, earlier and later, and what it is in words. */
export function WindowControl() {
  const { search, change } = useAddress();
  const { from, to } = useWindow();
  const moves = moving(search);
  const current = moves ? lengths.find((l) => Math.abs(to - from - l.ms) < 60e3)?.text : undefined;
  const step = "grid h-[25px] w-6 cursor-pointer place-items-center text-quiet hover:text-ink";
  return (
    <div className="flex shrink-0 items-center gap-3">
      <Hint text={`Times are in ${zone()}. Drag over a chart to look closer; arrow keys move the window.`}>
        <span className="whitespace-nowrap text-[12px] text-quiet max-[1100px]:hidden" data-testid="window">
          {windowWords(from, to)}
        </span>
      </Hint>
      <div className="flex items-center rounded-md border border-line bg-card">
        <button
          type="button"
          aria-label="Earlier"
          className={step}
          onClick={() => change(shift(search, -0.5, Date.now()))}
        >
          <ChevronLeft size={14} />
        </button>
        <ToggleGroup.Root
          type="single"
          aria-label="Length of the window"
          value={current ?? ""}
          onValueChange={(v) => {
            const l = lengths.find((x) => x.text === v);
            if (l) change({ to: undefined, ...last(l.ms) });
          }}
          className="flex border-x border-line"
        >
          {lengths.map((l) => (
            <ToggleGroup.Item
              key={l.text}
              value={l.text}
              className="h-[25px] cursor-pointer px-2 text-[12px] text-quiet hover:text-ink data-[state=on]:bg-well data-[state=on]:font-medium data-[state=on]:text-ink"
            >
              {l.text}
            </ToggleGroup.Item>
          ))}
        </ToggleGroup.Root>
        <button
          type="button"
          aria-label="Later"
          disabled={moves}
          className={`${step} disabled:opacity-30`}
          onClick={() => change({ to: undefined, ...shift(search, 0.5, Date.now()) })}
        >
          <ChevronRight size={14} />
        </button>
      </div>
    </div>
  );
}
