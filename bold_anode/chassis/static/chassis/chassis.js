// The layout under the pointer and the keys: a part follows at once with its wires trailing; where it is let go is
// sent, and the wires and figures come back.
import { say } from "../frame/frame.js";

const STEP = 1;
const LARGE = 10;
const SNAP = 3; // mm, within which a part snaps to another's middle line
let held = null;
let moved = null;

const laid = () => document.getElementById("laid");
const bodies = () => [...document.querySelectorAll("svg.box .body")];

function matrixOf(face) {
  return document.querySelector(`.face[data-face="${face}"]`).dataset.matrix.split(" ").map(Number);
}

// Millimetres of a face to those of the drawing, and back.
function onSheet(face, u, v) {
  const [a, b, c, d, e, f] = matrixOf(face);
  return { x: a * u + c * v + e, y: b * u + d * v + f };
}

function onFace(face, x, y) {
  const [a, b, c, d, e, f] = matrixOf(face);
  const det = a * d - b * c;
  return { u: (d * (x - e) - c * (y - f)) / det, v: (a * (y - f) - b * (x - e)) / det };
}

function at(svg, event) {
  return new DOMPoint(event.clientX, event.clientY).matrixTransform(svg.getScreenCTM().inverse());
}

function faceUnder(x, y, fallback) {
  for (const face of document.querySelectorAll(".face")) {
    const rect = face.querySelector("rect");
    const [left, top, width, height] = ["x", "y", "width", "height"].map((name) => Number(rect.getAttribute(name)));
    if (x >= left && x <= left + width && y >= top && y <= top + height) return face.dataset.face;
  }
  return fallback;
}

function limits(face) {
  const rect = document.querySelector(`.face[data-face="${face}"] rect`);
  const [width, height] = ["width", "height"].map((name) => Number(rect.getAttribute(name)));
  return face === "left" || face === "right" ? { u: height, v: width } : { u: width, v: height };
}

function snapped(body, face, place) {
  let { u, v } = { u: Math.round(place.u), v: Math.round(place.v) };
  for (const other of bodies()) {
    if (other === body || other.dataset.face !== face) continue;
    if (Math.abs(Number(other.dataset.u) - place.u) < SNAP) u = Number(other.dataset.u);
    if (Math.abs(Number(other.dataset.v) - place.v) < SNAP) v = Number(other.dataset.v);
  }
  const middle = limits(face).u / 2;
  if (Math.abs(place.u - middle) < SNAP) u = middle;
  return { u, v };
}

function show(body, face, u, v) {
  const most = limits(face);
  u = Math.min(Math.max(u, 0), most.u);
  v = Math.min(Math.max(v, 0), most.v);
  const spot = onSheet(face, u, v);
  const now = body.getAttribute("transform").match(/-?[\d.]+/g).map(Number);
  const shift = { x: spot.x - now[4], y: spot.y - now[5] };
  body.setAttribute("transform", `matrix(${now.slice(0, 4).join(" ")} ${spot.x} ${spot.y})`);
  body.dataset.u = u.toFixed(1);
  body.dataset.v = v.toFixed(1);
  body.dataset.face = face;
  trail(body, shift);
  moved = body;
}

// The ends of its wires go along; the rest is laid anew when it is let go.
function trail(body, shift) {
  for (const run of document.querySelectorAll(".run")) {
    const ends = run.dataset.ends.split(" ");
    const key = body.dataset.body;
    if (!run.dataset.ends.includes(key)) continue;
    const points = run.points;
    const first = run.dataset.ends.startsWith(`${key} `) ? 0 : points.numberOfItems - 1;
    run.classList.add("trailing");
    for (const place of [first, first === 0 ? 1 : first - 1]) {
      if (place < 0 || place >= points.numberOfItems || ends.length === 0) continue;
      const point = points.getItem(place);
      point.x += shift.x;
      point.y += shift.y;
    }
  }
}

function shown() {
  const from = laid().dataset;
  return { seen: from.seen, inside: from.inside, body: from.body, also: from.also };
}

function send(body, more = {}) {
  moved = null;
  const values = { ...shown(), body: body.dataset.body, ...more };
  if (!("turn" in more)) Object.assign(values, { u: body.dataset.u, v: body.dataset.v, face: body.dataset.face });
  htmx.ajax("POST", laid().dataset.place, { target: "#laid", swap: "outerHTML", values }).catch(() => say("It was not stored."));
}

function look(changes) {
  const values = { ...shown(), ...changes };
  htmx.ajax("GET", laid().dataset.look, { target: "#laid", swap: "outerHTML", values });
}

document.addEventListener("pointerdown", (event) => {
  const body = event.target.closest?.("svg.box .body");
  if (!body || event.button > 0) return;
  const point = at(body.ownerSVGElement, event);
  const now = onSheet(body.dataset.face, Number(body.dataset.u), Number(body.dataset.v));
  held = { body, dx: now.x - point.x, dy: now.y - point.y, begun: false, x: event.clientX, y: event.clientY };
  body.setPointerCapture(event.pointerId);
});

document.addEventListener("pointermove", (event) => {
  if (!held) return;
  if (!held.begun && Math.hypot(event.clientX - held.x, event.clientY - held.y) < 4) return;
  held.begun = true;
  held.body.classList.add("held");
  const point = at(held.body.ownerSVGElement, event);
  const x = point.x + held.dx;
  const y = point.y + held.dy;
  const face = faceUnder(x, y, held.body.dataset.face);
  const { u, v } = snapped(held.body, face, onFace(face, x, y));
  show(held.body, face, u, v);
});

document.addEventListener("pointerup", (event) => {
  if (!held) return;
  const { body, begun } = held;
  held = null;
  body.classList.remove("held");
  if (begun) send(body);
  else choose(body, event.shiftKey);
});

// A click chooses a part; with Shift, one more beside those chosen before.
function choose(body, more) {
  const key = body.dataset.body;
  if (!more) {
    look({ body: key, also: "[]" });
    return;
  }
  const chosen = JSON.parse(laid().dataset.also || "[]");
  if (chosen.length === 0 && laid().dataset.body) chosen.push(laid().dataset.body);
  const also = chosen.includes(key) ? chosen.filter((one) => one !== key) : [...chosen, key];
  look({ body: also[0] ?? key, also: JSON.stringify(also) });
}

// A wire is pulled: its nearest bend goes along, or a new one where it is straight.
let pulled = null;

function planOf(run) {
  return [...run.points].map(({ x, y }) => ({ x, y }));
}

document.addEventListener("pointerdown", (event) => {
  const run = event.target.closest?.(".run");
  if (!run || event.button > 0 || run.points.numberOfItems < 2) return;
  const point = at(run.ownerSVGElement, event);
  const plan = planOf(run);
  let near = plan.findIndex((one, place) => place > 0 && place < plan.length - 1 && Math.hypot(one.x - point.x, one.y - point.y) < 5);
  if (near < 0) {
    let least = Infinity;
    for (let k = 0; k + 1 < plan.length; k += 1) {
      const [a, b] = [plan[k], plan[k + 1]];
      const long = Math.hypot(b.x - a.x, b.y - a.y) || 1;
      const share = Math.min(Math.max(((point.x - a.x) * (b.x - a.x) + (point.y - a.y) * (b.y - a.y)) / long ** 2, 0), 1);
      const away = Math.hypot(a.x + share * (b.x - a.x) - point.x, a.y + share * (b.y - a.y) - point.y);
      if (away < least) [least, near] = [away, k + 1];
    }
    plan.splice(near, 0, point);
  }
  pulled = { run, plan, near, begun: false };
  run.setPointerCapture(event.pointerId);
});

document.addEventListener("pointermove", (event) => {
  if (!pulled) return;
  pulled.begun = true;
  pulled.run.classList.add("pulled");
  const point = at(pulled.run.ownerSVGElement, event);
  pulled.plan[pulled.near] = { x: Math.round(point.x), y: Math.round(point.y) };
  pulled.run.setAttribute("points", pulled.plan.map(({ x, y }) => `${x},${y}`).join(" "));
});

document.addEventListener("pointerup", () => {
  if (!pulled) return;
  const { run, plan, begun } = pulled;
  pulled = null;
  if (!begun) return;
  const bends = plan.slice(1, -1).map(({ x, y }) => {
    const { u, v } = onFace("top", x, y);
    return [u, v];
  });
  const inner = bends.filter((one, place) => place === 0 || one.join() !== bends[place - 1].join());
  htmx.ajax("POST", laid().dataset.wire, { target: "#laid", swap: "outerHTML", values: { ...shown(), wire: run.dataset.wire, bends: JSON.stringify(inner.slice(0, 12)) } });
});

document.addEventListener("pointercancel", () => {
  if (held?.begun) look({});
  held = null;
});

// Arrow keys by 1 mm, with Shift by 10; what was moved is sent when the keys rest.
let resting = 0;
document.addEventListener("keydown", (event) => {
  const body = event.target.closest?.("svg.box .body");
  if (!body) {
    stepByKey(event);
    return;
  }
  const far = event.shiftKey ? LARGE : STEP;
  const way = { ArrowLeft: [-far, 0], ArrowRight: [far, 0], ArrowUp: [0, -far], ArrowDown: [0, far] }[event.key];
  if (way) {
    event.preventDefault();
    const face = body.dataset.face;
    const spot = onSheet(face, Number(body.dataset.u), Number(body.dataset.v));
    const { u, v } = onFace(face, spot.x + way[0], spot.y + way[1]);
    show(body, face, Math.round(10 * u) / 10, Math.round(10 * v) / 10);
    clearTimeout(resting);
    resting = setTimeout(() => moved && send(moved), 350);
  } else if (event.key.toLowerCase() === "r" && !event.ctrlKey && !event.metaKey) {
    event.preventDefault();
    send(body, { turn: String((Number(body.dataset.turn) + (event.shiftKey ? 15 : 90)) % 360) });
  } else if (event.key === "Enter" || event.key === " ") {
    event.preventDefault();
    choose(body, event.shiftKey);
  } else {
    stepByKey(event);
  }
});

// In this room undo and redo are the layout's.
function stepByKey(event) {
  if (!(event.ctrlKey || event.metaKey) || !laid() || event.target.closest?.("input, select, textarea")) return;
  const key = event.key.toLowerCase();
  const id = key === "z" && !event.shiftKey ? "layout-back" : key === "y" || (key === "z" && event.shiftKey) ? "layout-forward" : null;
  if (!id) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  document.getElementById(id)?.click();
}

document.addEventListener("click", (event) => {
  const button = event.target.closest?.("[data-look-inside]");
  if (button) look({ inside: button.dataset.lookInside });
});
