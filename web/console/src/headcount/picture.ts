/** The styles that come from classes, and have to be part of a saved picture. */
const looks = ["fill", "stroke", "color", "opacity", "font-family"] as const;

/** A drawing as SVG 1.1 without a style sheet, on the background colour of the page. */
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

/** Saves a text as a file. */
export function download(name: string, type: string, text: string): void {
  const url = URL.createObjectURL(new Blob([text], { type }));
  const link = document.createElement("a");
  link.href = url;
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(url), 10_000);
}
