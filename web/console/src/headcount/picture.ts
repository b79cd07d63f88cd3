/** What of an element's look stands in classes, and has to go with a picture that leaves the page. */
const looks = ["fill", "stroke", "color", "opacity", "font-family"] as const;

/** A drawing as a file: SVG 1.1 that needs no style sheet, on the colour that is behind it. */
export function pictureOf(drawing: SVGSVGElement): string {
  const copy = drawing.cloneNode(true) as SVGSVGElement;
  const [originals, copies] = [drawing, copy].map((root) => [root, ...root.querySelectorAll("*")]);
  for (const [i, original] of (originals ?? []).entries()) {
    const style = getComputedStyle(original);
    const target = copies?.[i];
    target?.removeAttribute("class");
    for (const look of looks) target?.setAttribute(look, style.getPropertyValue(look));
  }
  const { width, height } = drawing.viewBox.baseVal;
  const ground = document.createElementNS("http://www.w3.org/2000/svg", "rect");
  ground.setAttribute("width", "100%");
  ground.setAttribute("height", "100%");
  ground.setAttribute("fill", getComputedStyle(document.documentElement).getPropertyValue("--sheet"));
  copy.prepend(ground);
  copy.setAttribute("xmlns", "http://www.w3.org/2000/svg");
  copy.setAttribute("width", String(width));
  copy.setAttribute("height", String(height));
  return new XMLSerializer().serializeToString(copy);
}

/** Hands a text over as a file. */
export function download(name: string, type: string, text: string): void {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
