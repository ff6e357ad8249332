// Elements of a drawing.

const SVG = "http://www.w3.org/2000/svg";

/**
 * @param {string} kind
 * @param {Record<string, string | number>} attributes
 * @param {string} [text]
 * @param {string} [title] what is said where a pointer rests on it
 */
export function drawn(kind, attributes, text = "", title = "") {
  const element = document.createElementNS(SVG, kind);
  for (const [name, value] of Object.entries(attributes)) element.setAttribute(name, String(value));
  if (text) element.textContent = text;
  if (title) {
    const words = document.createElementNS(SVG, "title");
    words.textContent = title;
    element.append(words);
  }
  return element;
}
