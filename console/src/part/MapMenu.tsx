import { DropdownMenu } from "radix-ui";
import { Button } from "../ui/Button";

/** The section, or the reach, as a file for programs that draw graphs. */
export function MapMenu({ of, at }: { of: string; at: string | undefined }) {
  const item = "block cursor-pointer rounded px-2.5 py-1.5 text-[12px] outline-none data-[highlighted]:bg-well";
  const link = (as: string, reach: boolean) => {
    const query = new URLSearchParams({ of, as });
    if (reach) query.set("reach", "true");
    if (at) query.set("at", at);
    return `/api/v1/map?${query}`;
  };
  const files: [string, string, boolean][] = [
    ["Section as Graphviz DOT", "dot", false],
    ["Section as GraphML", "graphml", false],
    ["Section as JSON", "json", false],
    ["Reach as Graphviz DOT", "dot", true],
    ["Reach as GraphML", "graphml", true],
  ];
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger asChild>
        <Button>Take away</Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-50 min-w-[190px] rounded-md border border-line bg-card p-1 shadow-lg"
        >
          {files.map(([words, as, reach]) => (
            <DropdownMenu.Item key={words} asChild>
              <a href={link(as, reach)} download={`map.${as}`} className={item}>
                {words}
              </a>
            </DropdownMenu.Item>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
