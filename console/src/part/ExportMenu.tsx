import { Download } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import type { RefObject } from "react";
import { csv } from "../model/csv";

interface Props {
  name: string;
  rows?: () => (string | number | null)[][];
  all?: () => Promise<(string | number | null)[][]>; // instead of rows, where they must be asked for
  json?: () => Promise<unknown>;
  svg?: RefObject<SVGSVGElement | null>;
}

/** Takes a chart or table away as CSV, or as a picture. */
export function ExportMenu({ name, rows, all, json, svg }: Props) {
  const item = "cursor-pointer rounded px-2.5 py-1.5 text-[12px] outline-none data-[highlighted]:bg-well";
  const text = async () => csv(all ? await all() : (rows?.() ?? []));
  const save = (type: string, ending: string, data: BlobPart) => {
    const address = URL.createObjectURL(new Blob([data], { type }));
    const link = document.createElement("a");
    link.href = address;
    link.download = `${name}.${ending}`;
    link.click();
    setTimeout(() => URL.revokeObjectURL(address), 1000);
  };
  return (
    <DropdownMenu.Root modal={false}>
      <DropdownMenu.Trigger aria-label="Take it away as a file" className="cursor-pointer text-quiet hover:text-ink">
        <Download size={13} />
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={6}
          className="z-50 min-w-[150px] rounded-md border border-line bg-card p-1 shadow-lg"
        >
          <DropdownMenu.Item className={item} onSelect={() => void text().then((t) => save("text/csv", "csv", t))}>
            Save as CSV
          </DropdownMenu.Item>
          <DropdownMenu.Item
            className={item}
            onSelect={() => void text().then((t) => navigator.clipboard.writeText(t))}
          >
            Copy as CSV
          </DropdownMenu.Item>
          {json && (
            <DropdownMenu.Item
              className={item}
              onSelect={() => void json().then((v) => save("application/json", "json", JSON.stringify(v, null, 2)))}
            >
              Save as JSON
            </DropdownMenu.Item>
          )}
          {svg && (
            <DropdownMenu.Item
              className={item}
              onSelect={() => svg.current && void picture(svg.current).then((b) => b && save("image/png", "png", b))}
            >
              Save as PNG
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}

const styles = [
  "fill",
  "stroke",
  "stroke-width",
  "stroke-dasharray",
  "stroke-opacity",
  "opacity",
  "font-size",
  "font-weight",
  "font-family",
  "text-anchor",
  "paint-order",
];

/** Draws a chart on a canvas at twice its size, on the page's ground. */
async function picture(svg: SVGSVGElement): Promise<Blob | null> {
  const copy = svg.cloneNode(true) as SVGSVGElement;
  const [from, to] = [svg.querySelectorAll("*"), copy.querySelectorAll("*")];
  from.forEach((e, i) => {
    const computed = getComputedStyle(e);
    for (const s of styles) to[i]?.setAttribute(s, computed.getPropertyValue(s));
  });
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  const image = new Image();
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(new XMLSerializer().serializeToString(copy))}`;
  await image.decode();
  const canvas = document.createElement("canvas");
  [canvas.width, canvas.height] = [svg.clientWidth * 2, svg.clientHeight * 2];
  const pen = canvas.getContext("2d");
  if (!pen) return null;
  pen.fillStyle = getComputedStyle(document.body).backgroundColor;
  pen.fillRect(0, 0, canvas.width, canvas.height);
  pen.drawImage(image, 0, 0, canvas.width, canvas.height);
  return new Promise((done) => canvas.toBlob(done, "image/png"));
}
