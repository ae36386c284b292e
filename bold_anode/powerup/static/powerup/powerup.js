// Readings typed in quickly: Enter keeps the reading and goes to the next test point.
document.addEventListener("keydown", (event) => {
  const input = event.target.closest("input.reading");
  if (!input) return;
  const step = { Enter: 1, ArrowDown: 1, ArrowUp: -1 }[event.key];
  if (!step) return;
  event.preventDefault();
  const all = [...document.querySelectorAll("input.reading")];
  const next = all[all.indexOf(input) + step];
  if (next) {
    next.focus(); // leaving the field is what sends it
    next.select();
  } else {
    input.blur();
  }
});

// The reading just judged, with its verdict, stays in sight above the keyboard.
document.addEventListener("htmx:oobAfterSwap", (event) => {
  document.getElementById(event.detail.target.id)?.closest("table.readings tr")?.scrollIntoView({ block: "nearest" });
});
