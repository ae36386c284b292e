// The drawing by pointer and key: open a part's editor beside it, step preferred values, walk from part to part.
const chain = () => document.querySelector(".chain");
const editor = () => document.querySelector(".chain .editor"); // no id: htmx would copy its inline place into the next drawing
const parts = () => [...document.querySelectorAll(".part")];
let opened = null;

function stageOf() {
  return chain()?.dataset.stage ?? "";
}

async function open(part) {
  opened = part.dataset.path;
  const query = new URLSearchParams({ path: part.dataset.path, stage: stageOf() });
  await htmx.ajax("GET", `${chain().dataset.editor}?${query}`, { target: ".chain .editor", swap: "innerHTML" });
  const box = editor();
  if (!box) return;
  box.hidden = false;
  place(box, part);
  const first = box.querySelector("input:not([type=hidden]), select");
  first?.focus({ preventScroll: true });
  first?.select?.();
}

// Beside the part, within the room, on whichever side has space.
function place(box, part) {
  const room = chain().getBoundingClientRect();
  const at = part.querySelector(".target").getBoundingClientRect();
  const right = at.right - room.left + 10;
  const left = at.left - room.left - box.offsetWidth - 10;
  const x = right + box.offsetWidth <= room.width ? right : Math.max(0, left);
  const most = Math.max(0, Math.min(room.height, innerHeight - room.top) - box.offsetHeight - 4);
  box.style.left = `${x}px`;
  box.style.top = `${Math.max(0, Math.min(at.top - room.top - 8, most))}px`;
}

function close() {
  const box = editor();
  if (!box || box.hidden) return;
  box.hidden = true;
  parts().find((part) => part.dataset.path === opened)?.focus({ preventScroll: true });
  opened = null;
}

function change(values) {
  const work = document.getElementById("work");
  htmx.ajax("POST", work.dataset.change, {
    target: "#work",
    swap: "outerHTML",
    values: { seen: work.dataset.revision, stage: stageOf(), ...values },
  });
}

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-close]")) return close();
  const part = event.target.closest(".part");
  if (part) return void open(part);
  if (!event.target.closest(".editor")) {
    const box = editor();
    if (box) box.hidden = true;
  }
});

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") return close();
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const input = event.target.closest("[data-step]");
  const part = event.target.closest(".part");
  const up = { ArrowUp: 1, ArrowDown: -1 }[event.key];
  if (up && (part?.dataset.main || input)) {
    event.preventDefault();
    // Let one step be drawn before the next is asked for.
    if (document.querySelector(".htmx-request")) return;
    if (input) parts().find((one) => one.dataset.path === opened)?.focus({ preventScroll: true });
    change({ path: part ? part.dataset.main : input.dataset.step, steps: up });
    return;
  }
  if (!part) return;
  if (event.key === "Enter" || event.key === " ") {
    event.preventDefault();
    open(part);
  }
  const sideways = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
  if (sideways) {
    event.preventDefault();
    const all = parts();
    all[(all.indexOf(part) + sideways + all.length) % all.length].focus();
  }
});

// The part that was being edited gets the focus back once the new drawing is there.
document.body.addEventListener("htmx:afterSettle", (event) => {
  if (event.detail.target.id !== "work" || !opened) return;
  parts().find((part) => part.dataset.path === opened)?.focus({ preventScroll: true });
  opened = null;
});
