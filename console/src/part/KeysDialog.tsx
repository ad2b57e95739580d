import { Dialog } from "radix-ui";

const keys = [
  ["/", "find anything by any name or identifier"],
  ["← →", "move the window of time by a quarter"],
  ["+ −", "shorten or lengthen the window"],
  ["Tab, Enter", "go from object to object, open one"],
  ["?", "this list"],
  ["Esc", "close"],
];

export function KeysDialog({ open, onOpenChange }: { open: boolean; onOpenChange: (open: boolean) => void }) {
  return (
    <Dialog.Root open={open} onOpenChange={onOpenChange}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-ink/20" />
        <Dialog.Content
          aria-describedby={undefined}
          className="fixed left-1/2 top-28 z-50 w-[420px] max-w-[92vw] -translate-x-1/2 rounded-lg border border-line bg-card p-5 shadow-xl"
        >
          <Dialog.Title className="text-[15px] font-semibold">Keys</Dialog.Title>
          <dl className="mt-3 grid grid-cols-[90px_1fr] gap-y-2">
            {keys.map(([key, does]) => (
              <div key={key} className="contents">
                <dt className="font-medium">{key}</dt>
                <dd className="text-quiet">{does}</dd>
              </div>
            ))}
          </dl>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
