import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";

/** Explains what it wraps on hover and on focus. */
export function Hint({
  text,
  children,
  side = "top",
}: {
  text: ReactNode;
  children: ReactNode;
  side?: "top" | "right" | "bottom" | "left";
}) {
  return (
    <Tooltip.Root>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          side={side}
          sideOffset={6}
          collisionPadding={10}
          className="z-50 max-w-[340px] rounded-md bg-ink px-3 py-2 text-[12px] leading-snug text-paper shadow-lg"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
  );
}
