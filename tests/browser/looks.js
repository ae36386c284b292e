// What is cut off, lies on something else, goes sideways or is too small to read on the page as it is shown.
() => {
  const wrong = [];
  const wide = innerWidth;
  if (document.scrollingElement.scrollWidth > wide + 1) wrong.push(`the page is ${document.scrollingElement.scrollWidth} wide`);
  const style = (e) => getComputedStyle(e);
  const shown = (e) => {
    const { width, height } = e.getBoundingClientRect();
    return width > 1 && height > 1 && e.checkVisibility({ visibilityProperty: true, opacityProperty: true }) && style(e).position !== "absolute";
  };
  const scrolls = (e) => e !== document.body && (/auto|scroll/.test(style(e).overflowX) || scrolls(e.parentElement));
  const words = (e) => (e.textContent.trim() || e.name || e.id).slice(0, 24);
  const controls = [...document.querySelectorAll("button, a[href], input:not([type=hidden]), select, textarea")].filter(
    (e) => shown(e) && !e.closest("svg, .skip"),
  );
  for (const e of controls) {
    const { left, right } = e.getBoundingClientRect();
    if (!scrolls(e.parentElement) && (right > wide + 1 || left < -1)) wrong.push(`${words(e)} is cut off`);
  }
  controls.forEach((one, place) => {
    for (const other of controls.slice(place + 1)) {
      if (one.contains(other) || other.contains(one)) continue;
      const p = one.getBoundingClientRect();
      const q = other.getBoundingClientRect();
      const across = Math.min(p.right, q.right) - Math.max(p.left, q.left);
      const down = Math.min(p.bottom, q.bottom) - Math.max(p.top, q.top);
      if (across > 3 && down > 3) wrong.push(`${words(one)} lies on ${words(other)}`);
    }
  });
  for (const table of document.querySelectorAll("table")) {
    if (!scrolls(table) && table.getBoundingClientRect().right > wide + 1) wrong.push("a table is cut off");
  }
  const tiny = [...document.querySelectorAll("svg text")].filter(
    (text) => text.getBoundingClientRect().height > 0 && parseFloat(style(text).fontSize) * (text.getScreenCTM()?.a ?? 1) < 8.5,
  );
  if (tiny.length) wrong.push(`${tiny.length} drawn texts are under 8.5 px`);
  if (matchMedia("print").matches) {
    const most = document.documentElement.clientWidth + 2;
    for (const e of document.querySelectorAll("svg, table, .strip")) {
      const { width, right } = e.getBoundingClientRect();
      if (width > 40 && right > most) wrong.push(`${e.getAttribute("class") ?? e.tagName} is cut off on paper`);
    }
    return wrong.filter((one) => /paper|wide/.test(one));
  }
  return wrong;
}
