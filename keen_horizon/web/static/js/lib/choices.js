// Groups of choices: one of them takes part in the order of Tab, arrows walk through the rest.

/** @type {Record<string, number>} */
const WAYS = { ArrowLeft: -1, ArrowUp: -1, ArrowRight: 1, ArrowDown: 1 };

document.addEventListener("keydown", (event) => {
  const button = /** @type {HTMLElement} */ (event.target);
  const way = WAYS[event.key];
  if (!way || button.getAttribute?.("role") !== "radio") return;
  const group = button.closest('[role="radiogroup"]');
  if (!group) return;
  const choices = /** @type {HTMLElement[]} */ ([...group.querySelectorAll('[role="radio"]')]);
  const next = choices[(choices.indexOf(button) + way + choices.length) % choices.length];
  event.preventDefault();
  event.stopPropagation();
  next.focus();
  next.click();
});
