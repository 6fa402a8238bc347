/**
 * The terminal's renderer under a content security policy without inline styles: its style sheets are given the page's nonce, and what
 * it writes as a style attribute of a letter (colours beyond the 256) is set as a property (CSSOM), which the policy allows.
 */
export function withStrictStyles(open: () => void): void {
  const nonce = document.querySelector<HTMLMetaElement>("meta[name=csp-nonce]")?.content ?? "";
  const create = (tag: string) => {
    const element = Document.prototype.createElement.call(document, tag);
    if (tag === "style") element.nonce = nonce;
    return element;
  };
  Object.defineProperty(document, "createElement", { configurable: true, writable: true, value: create });
  try {
    open();
  } finally {
    Reflect.deleteProperty(document, "createElement");
  }
  Object.defineProperty(HTMLSpanElement.prototype, "setAttribute", { configurable: true, value: setAttribute });
}

function setAttribute(this: HTMLSpanElement, name: string, value: string): void {
  if (name === "style") this.style.cssText = value;
  else Element.prototype.setAttribute.call(this, name, value);
}
