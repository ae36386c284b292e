// The drawing by pointer and key: open a part's editor beside it, step preferred values, walk from part to part.
const chain = () => document.querySelector(".chain");
const editor = () => document.querySelector(".chain .editor"); // no id: htmx would copy its inline place into the next drawing
const parts = () => [...document.querySelectorAll(".part")];
let opened = null;
// How often an editor was opened, and how often it had been when the change on its way was sent.
let openings = 0;
let sentAt = 0;

function stageOf() {
  return chain()?.dataset.stage ?? "";
}

async function open(part) {
  if (!chain()) return; // a drawing that is only looked at
  opened = part.dataset.path;
  openings += 1;
  const query = new URLSearchParams({ path: part.dataset.path, stage: stageOf(), room: chain().dataset.room ?? "chain" });
  await htmx.ajax("GET", `${chain().dataset.editor}?${query}`, { source: part, target: ".chain .editor", swap: "innerHTML" });
  const box = editor();
  if (!box || pointing || !part.isConnected) return;
  box.hidden = false;
  place(box, part);
  const first = box.querySelector("summary, input:not([type=hidden], [data-filter]), select");
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

document.addEventListener(
  "toggle",
  (event) => event.target.open && event.target.querySelector?.("[data-filter]")?.focus({ preventScroll: true }),
  true,
);

// A list that is searched: what has all the words that were typed, in any of its names.
document.addEventListener("input", (event) => {
  const search = event.target.closest("[data-filter]");
  if (!search) return;
  const words = search.value.toLowerCase().split(/[\s,]+/).filter(Boolean);
  for (const choice of search.form.querySelectorAll(".list button")) {
    choice.hidden = !words.every((word) => choice.dataset.names.toLowerCase().includes(word));
  }
});

function change(values) {
  const work = document.getElementById("work");
  htmx.ajax("POST", work.dataset.change, {
    target: "#room",
    swap: "innerHTML",
    values: { seen: work.dataset.revision, stage: stageOf(), ...values },
  });
}

// Pointing at the other end of a connection: the blocks and rails that it may come from are marked, and a click on one
// chooses it; where a block has several, they are left in the list to choose from.
let pointing = null;
const ends = () => [...document.querySelectorAll(".part, [data-reference]")];
const choicesAt = (end) =>
  [...(pointing?.options ?? [])].filter(({ value }) =>
    end.dataset.reference ? value === end.dataset.reference : value && value.split(".")[0] === end.dataset.block,
  );

function point(select) {
  pointing = select;
  chain().classList.add("pointing");
  for (const end of ends()) end.classList.toggle("candidate", choicesAt(end).length > 0);
  editor().hidden = true;
}

function unpoint() {
  pointing = null;
  chain()?.classList.remove("pointing");
  for (const end of document.querySelectorAll(".candidate")) end.classList.remove("candidate");
}

function pointedAt(end) {
  const found = choicesAt(end);
  const select = pointing;
  unpoint();
  if (found.length === 1) {
    select.value = found[0].value;
    select.dispatchEvent(new Event("change", { bubbles: true }));
    return;
  }
  editor().hidden = false;
  for (const option of select.options) option.hidden = !found.includes(option);
  select.selectedIndex = -1;
  select.focus();
}

document.addEventListener("click", (event) => {
  if (event.target.closest("[data-close]")) return close();
  const picker = event.target.closest("[data-pick]");
  if (picker) return point(document.getElementById(picker.dataset.pick));
  if (pointing) {
    const end = event.target.closest(".candidate");
    return end ? pointedAt(end) : unpoint();
  }
  const part = event.target.closest(".part");
  if (part) return void open(part);
  if (!event.target.closest(".editor")) {
    const box = editor();
    if (box) box.hidden = true;
  }
});

document.addEventListener("keydown", (event) => {
  if (event.key === "Escape") return pointing ? unpoint() : close();
  if (event.target.closest("[data-filter]") && event.key === "Enter") {
    event.preventDefault();
    event.target.form.querySelector(".list button:not([hidden])")?.click();
    return;
  }
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  const input = event.target.closest("[data-step]");
  const part = event.target.closest(".part");
  const up = { ArrowUp: 1, ArrowDown: -1 }[event.key];
  if (up && (part?.dataset.main || input)) {
    event.preventDefault();
    // Let one step be drawn before the next is asked for; the cures may follow in their own time.
    if (document.querySelector(".htmx-request:not(.findings)")) return;
    if (input) parts().find((one) => one.dataset.path === opened)?.focus({ preventScroll: true });
    change({ path: part ? part.dataset.main : input.dataset.step, steps: up });
    return;
  }
  if (!part) return;
  if (event.key === "Enter" || event.key === " ") {
    event.preventDefault();
    if (pointing) return part.matches(".candidate") ? pointedAt(part) : unpoint();
    open(part);
  }
  const sideways = { ArrowRight: 1, ArrowLeft: -1 }[event.key];
  if (sideways) {
    event.preventDefault();
    const all = parts();
    all[(all.indexOf(part) + sideways + all.length) % all.length].focus();
  }
});

// Once the new drawing is there, the part that was being edited gets the focus back; one that was opened while the
// change was on its way is opened again.
document.body.addEventListener("htmx:beforeRequest", (event) => {
  if (event.detail.target.id === "room") sentAt = openings;
});
document.body.addEventListener("htmx:afterSettle", (event) => {
  if (event.detail.target.id !== "room" || !opened) return;
  const part = parts().find((one) => one.dataset.path === opened);
  if (part && openings > sentAt) return void open(part);
  part?.focus({ preventScroll: true });
  opened = null;
});
