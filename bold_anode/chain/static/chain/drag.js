// The operating point and the load line, dragged on the plot: what is let go is sent, and the parts follow.
let held = null;

function scaled(words, share) {
  const [least, most] = words.split(" ").map(Number);
  return least + share * (most - least);
}

function values(handle, x, y) {
  const group = handle.parentNode;
  const [left, top, width, height] = group.dataset.frame.split(" ").map(Number);
  return {
    volt: scaled(group.dataset.across, (x - left) / width),
    ampere: scaled(group.dataset.up, 1 - (y - top) / height),
  };
}

function place(handle) {
  const { e, f } = handle.transform.baseVal.consolidate().matrix;
  return { x: e, y: f };
}

function move(handle, x, y) {
  const [left, top, width, height] = handle.parentNode.dataset.frame.split(" ").map(Number);
  const at = { x: Math.min(Math.max(x, left + 2), left + width), y: Math.min(Math.max(y, top), top + height - 2) };
  handle.setAttribute("transform", `translate(${at.x} ${at.y})`);
  const { volt, ampere } = values(handle, at.x, at.y);
  const said = `${volt.toPrecision(3)} V, ${(1e3 * ampere).toPrecision(3)} mA`;
  handle.setAttribute("aria-valuetext", said);
  const key = handle.closest(".plotted").querySelector(".key");
  let note = key.querySelector(".dragged");
  if (!note) {
    note = document.createElement("li");
    note.className = "k-note dragged";
    key.append(note);
  }
  note.textContent = said;
}

function send(handle) {
  const { x, y } = place(handle);
  const chain = document.querySelector(".chain");
  const work = document.getElementById("work");
  htmx.ajax("POST", chain.dataset.drag, {
    target: "#room",
    swap: "innerHTML",
    values: { seen: work.dataset.revision, stage: chain.dataset.stage, handle: handle.dataset.handle, ...values(handle, x, y) },
  });
}

document.addEventListener("pointerdown", (event) => {
  const handle = event.target.closest?.(".handle");
  if (!handle) return;
  event.preventDefault();
  held = handle;
  handle.setPointerCapture(event.pointerId);
  handle.classList.add("held");
});

document.addEventListener("pointermove", (event) => {
  if (!held) return;
  const at = new DOMPoint(event.clientX, event.clientY).matrixTransform(held.ownerSVGElement.getScreenCTM().inverse());
  move(held, at.x, at.y);
});

for (const kind of ["pointerup", "pointercancel"]) {
  document.addEventListener(kind, () => {
    if (!held) return;
    held.classList.remove("held");
    if (kind === "pointerup" && held.hasAttribute("aria-valuetext")) send(held);
    held = null;
  });
}

// Arrow keys move it by steps; Enter lets it go.
document.addEventListener("keydown", (event) => {
  const handle = event.target.closest?.(".handle");
  if (!handle) return;
  const step = { ArrowLeft: [-6, 0], ArrowRight: [6, 0], ArrowUp: [0, -6], ArrowDown: [0, 6] }[event.key];
  if (step) {
    event.preventDefault();
    const { x, y } = place(handle);
    move(handle, x + step[0], y + step[1]);
  } else if (event.key === "Enter" && handle.hasAttribute("aria-valuetext")) {
    event.preventDefault();
    send(handle);
  }
});
