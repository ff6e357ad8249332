"""What of the page was used: the handlers that templates declare, and those an event reached.

A handler is told by the component around it, the event, and what is done then, all as the templates
have them; so the list of what there is to press is the page itself.
"""

from __future__ import annotations

from playwright.sync_api import BrowserContext, Page

NAMES = """
const told = (node) => [...node.attributes].filter(({ name }) => name.startsWith("x-on:"))
  .map(({ name, value }) => [name.slice(5).split(".")[0], value, name.includes(".window")]);
const key = (scope, event, does) => `${scope} | ${event} | ${does}`;
"""
LISTEN = (
    "(() => {"
    + NAMES
    + """
const seen = new Set();
const kinds = ["click", "change", "input", "submit", "pointerdown", "pointermove", "pointerup",
  "pointerenter", "pointerleave", "focusin", "focusout", "keydown", "wheel", "toggle", "dragover",
  "dragleave", "drop", "setting"];
for (const kind of kinds) {
  window.addEventListener(kind, (event) => {
    const own = kind === "pointerenter" || kind === "pointerleave" || kind === "toggle";
    for (let node = event.target; node instanceof Element; node = own ? null : node.parentElement) {
      for (const [name, does] of told(node)) {
        if (name !== kind) continue;
        const one = key(node.closest("[x-data]").getAttribute("x-data"), name, does);
        if (!seen.has(one)) window.pressed(one);
        seen.add(one);
      }
    }
  }, { capture: true, passive: true });
}
})()"""
)
DECLARED = (
    "() => {"
    + NAMES
    + """
const all = new Set();
const walk = (node, scope) => {
  const here = node.getAttribute?.("x-data") ?? scope;
  if (node.attributes) {
    for (const [name, does, far] of told(node)) if (!far) all.add(key(here, name, does));
  }
  const inside = node instanceof HTMLTemplateElement ? node.content : node;
  for (const child of inside.children) walk(child, here);
};
walk(document.body, "");
return [...all];
}"""
)


class Ledger:
    """Handlers that were declared on the pages seen, and those that were reached."""

    def __init__(self, context: BrowserContext) -> None:
        self.pressed: set[str] = set()
        context.expose_function("pressed", lambda one: self.pressed.add(one))
        context.add_init_script(LISTEN)

    @staticmethod
    def declared(page: Page) -> set[str]:
        """All handlers of the page on show; what repeats is one."""
        return set(page.evaluate(DECLARED))

    def left(self, page: Page) -> list[str]:
        """Handlers of this page that no event has reached."""
        return sorted(self.declared(page) - self.pressed)
