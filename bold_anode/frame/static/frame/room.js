// Undo and redo by key in every room, and the focus kept where it was when a change redraws the page.
const typing = (target) => target.closest("input:not([type=range]), textarea, select");

document.addEventListener("keydown", (event) => {
  if (!(event.ctrlKey || event.metaKey) || typing(event.target)) return;
  const key = event.key.toLowerCase();
  const button = key === "z" && !event.shiftKey ? "undo" : key === "y" || (key === "z" && event.shiftKey) ? "redo" : null;
  if (!button) return;
  event.preventDefault();
  document.getElementById(button)?.click();
});

let kept = null;
document.body.addEventListener("htmx:beforeSwap", () => {
  const at = document.activeElement;
  kept = at?.dataset?.keep ?? at?.id ?? null;
});
document.body.addEventListener("htmx:afterSettle", () => {
  if (!kept) return;
  const again = document.querySelector(`[data-keep="${CSS.escape(kept)}"]`) ?? document.getElementById(kept);
  if (again && document.activeElement === document.body) again.focus({ preventScroll: true });
  kept = null;
});

// Whatever is changed from, the stage that is being looked at stays.
document.body.addEventListener("htmx:configRequest", (event) => {
  const stage = document.querySelector("[data-stage]")?.dataset.stage;
  if (stage) event.detail.parameters.stage ??= stage;
});
