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

// What a finding is about is marked in the room, by the severity of the worst: findings come worst first, and often
// after the room.
function markFindings() {
  for (const part of document.querySelectorAll("[data-finding]")) delete part.dataset.finding;
  for (const { dataset } of document.querySelectorAll(".finding[data-about]")) {
    for (const part of document.querySelectorAll(`[data-path="${CSS.escape(dataset.about)}"]:not([data-finding])`)) {
      part.dataset.finding = dataset.severity;
    }
  }
}
markFindings();

// Until the findings of a change are known those of before stay, with no cure that could be chosen.
document.body.addEventListener("htmx:oobBeforeSwap", ({ detail: { fragment, target } }) => {
  const due = fragment.querySelector?.("#findings[aria-busy] .looking");
  const list = target.querySelector("#findings > ul");
  if (!due || !list) return;
  for (const offer of list.querySelectorAll("form, .looking")) offer.remove();
  due.replaceWith(list);
});
document.body.addEventListener("htmx:afterSettle", markFindings);

// On a narrow screen the rooms are one line that scrolls.
document.querySelector(".rooms [aria-current]")?.scrollIntoView({ inline: "center", block: "nearest" });
