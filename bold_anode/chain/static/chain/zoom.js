// The size of the drawing and the way about in it: buttons, + - 0 f, the wheel with Ctrl, two fingers, dragging.
const LEAST = 0.3, MOST = 3, STEP = 1.25;
const view = { how: "full", scale: 1 };
const sheet = () => document.querySelector(".chain .sheet");
const drawing = () => sheet()?.querySelector(".drawing");
const bounded = (scale) => Math.min(MOST, Math.max(LEAST, scale));

// Draw at a scale, with the point of the drawing under (x, y) of the window staying there.
function draw(scale, x, y) {
  const svg = drawing();
  if (!svg) return;
  const before = svg.getBoundingClientRect();
  const { width, height } = svg.viewBox.baseVal;
  svg.style.width = `${width * scale}px`;
  svg.style.height = `${height * scale}px`;
  if (x === undefined) return;
  const ratio = (width * scale) / before.width - 1;
  sheet().scrollLeft += (x - before.left) * ratio;
  scrollBy(0, (y - before.top) * ratio);
}

function show(how) {
  const svg = drawing();
  if (!svg) return;
  view.how = how;
  const room = sheet().clientWidth;
  const mark = svg.querySelector(".stage-mark");
  const fitting = { whole: svg.viewBox.baseVal.width, stage: mark?.width.baseVal.value ?? 0 }[how];
  view.scale = how === "whole" ? Math.min(1, room / fitting) : how === "stage" && fitting ? bounded(Math.min(1.6, room / fitting)) : 1;
  draw(view.scale);
  if (how === "stage") mark?.scrollIntoView({ block: "center", inline: "center" });
  tell();
}

function to(scale, x, y) {
  view.how = "free";
  view.scale = bounded(scale);
  draw(view.scale, x, y);
  tell();
}

function tell() {
  for (const button of document.querySelectorAll("[data-zoom]")) {
    button.setAttribute("aria-pressed", String(button.dataset.zoom === view.how));
  }
}

function middle() {
  const box = sheet().getBoundingClientRect();
  return [box.left + box.width / 2, Math.max(box.top, 0) + Math.min(box.height, innerHeight) / 2];
}

document.addEventListener("click", (event) => {
  const button = event.target.closest("[data-zoom]");
  if (button) show(button.dataset.zoom);
});

document.addEventListener("keydown", (event) => {
  if (event.ctrlKey || event.metaKey || event.altKey || event.target.closest("input, select, textarea")) return;
  if (!event.target.closest(".sheet")) return;
  const act = {
    "+": () => to(view.scale * STEP, ...middle()),
    "=": () => to(view.scale * STEP, ...middle()),
    "-": () => to(view.scale / STEP, ...middle()),
    0: () => show("full"),
    f: () => show("whole"),
  }[event.key];
  if (!act) return;
  event.preventDefault();
  act();
});

document.addEventListener(
  "wheel",
  (event) => {
    if (!event.ctrlKey || !event.target.closest(".chain .sheet")) return;
    event.preventDefault();
    to(view.scale * Math.exp(-event.deltaY / 400), event.clientX, event.clientY);
  },
  { passive: false },
);

// Two fingers: as far apart as they get, so much larger.
let pinch = null;
const apart = (touches) => Math.hypot(touches[0].clientX - touches[1].clientX, touches[0].clientY - touches[1].clientY);
const between = (touches) => [(touches[0].clientX + touches[1].clientX) / 2, (touches[0].clientY + touches[1].clientY) / 2];
document.addEventListener(
  "touchstart",
  (event) => {
    pinch = event.touches.length === 2 && event.target.closest(".chain .sheet") ? { scale: view.scale, apart: apart(event.touches) } : null;
    if (pinch) event.preventDefault();
  },
  { passive: false },
);
document.addEventListener(
  "touchmove",
  (event) => {
    if (!pinch || event.touches.length !== 2) return;
    event.preventDefault();
    to((pinch.scale * apart(event.touches)) / pinch.apart, ...between(event.touches));
  },
  { passive: false },
);
document.addEventListener("touchend", () => (pinch = null));

// The mouse takes hold of the paper where there is no part.
let held = null;
document.addEventListener("pointerdown", (event) => {
  if (event.pointerType !== "mouse" || event.button !== 0) return;
  if (!event.target.closest(".chain .sheet .drawing") || event.target.closest(".part")) return;
  event.preventDefault();
  held = { x: event.clientX, y: event.clientY };
  sheet().classList.add("held");
});
document.addEventListener("pointermove", (event) => {
  if (!held) return;
  sheet().scrollLeft -= event.clientX - held.x;
  scrollBy(0, held.y - event.clientY);
  held = { x: event.clientX, y: event.clientY };
});
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    held = null;
    sheet()?.classList.remove("held");
  });
}

// A new drawing is seen as the last one was.
let left = 0;
document.body.addEventListener("htmx:beforeSwap", () => (left = sheet()?.scrollLeft ?? 0));
document.body.addEventListener("htmx:afterSettle", (event) => {
  if (event.detail.target.id !== "room" || !drawing()) return;
  if (view.how === "whole") show("whole");
  else draw(view.scale);
  sheet().scrollLeft = left;
  tell();
});
addEventListener("resize", () => view.how === "whole" && show("whole"));
