// Reading a plot off: the pointer, a finger or the arrow keys move a cursor, and every named line says its value there.
const PREFIXES = [[1e6, "M"], [1e3, "k"], [1, ""], [1e-3, "m"], [1e-6, "µ"], [1e-9, "n"]];

function written(value, unit) {
  if (unit === "dB" || unit === "°" || unit === "%" || unit === "×") return `${Number(value.toPrecision(3))} ${unit}`;
  const size = Math.abs(value);
  const [scale, prefix] = PREFIXES.find(([least]) => size >= least * 0.9995) ?? [1, ""];
  return `${Number((value / scale).toPrecision(3))} ${prefix}${unit}`;
}

function valueAt(words, share) {
  const [least, most, how] = words.split(" ");
  if (how === "log") return Math.exp(Math.log(least) + share * (Math.log(most) - Math.log(least)));
  return Number(least) + share * (most - least);
}

function heightAt(line, x) {
  const points = line.points;
  for (let at = 1; at < points.numberOfItems; at++) {
    const a = points.getItem(at - 1), b = points.getItem(at);
    if ((a.x <= x && x <= b.x) || (b.x <= x && x <= a.x)) {
      return a.x === b.x ? a.y : a.y + ((x - a.x) / (b.x - a.x)) * (b.y - a.y);
    }
  }
  return null;
}

export function readOff(plot, x) {
  const [left, top, width, height] = plot.dataset.frame.split(" ").map(Number);
  const at = Math.min(Math.max(x, left), left + width);
  let cursor = plot.querySelector(".cursor");
  if (!cursor) {
    cursor = document.createElementNS("http://www.w3.org/2000/svg", "path");
    cursor.setAttribute("class", "cursor");
    plot.append(cursor);
  }
  cursor.setAttribute("d", `M${at} ${top}v${height}`);
  plot.dataset.at = at;
  const said = [written(valueAt(plot.dataset.reads, (at - left) / width), plot.dataset.unit)];
  for (const line of plot.querySelectorAll("polyline[data-name]")) {
    const y = heightAt(line, at);
    if (y === null || y < top - 1 || y > top + height + 1) continue;
    said.push(`${line.dataset.name} ${written(valueAt(line.dataset.scale, 1 - (y - top) / height), line.dataset.unit)}`);
  }
  plot.closest(".plotted").querySelector(".read-off").textContent = `${said[0]}: ${said.slice(1).join(", ")}`;
}

function place(plot, event) {
  return new DOMPoint(event.clientX, event.clientY).matrixTransform(plot.getScreenCTM().inverse()).x;
}

for (const kind of ["pointermove", "pointerdown"]) {
  document.addEventListener(kind, (event) => {
    const plot = event.target.closest?.(".plot[data-reads]");
    if (plot) readOff(plot, place(plot, event));
  });
}

document.addEventListener("keydown", (event) => {
  const plot = event.target.closest?.(".plot[data-reads]");
  const step = { ArrowLeft: -4, ArrowRight: 4 }[event.key];
  if (!plot || !step) return;
  event.preventDefault();
  readOff(plot, Number(plot.dataset.at ?? plot.viewBox.baseVal.width / 2) + step);
});
