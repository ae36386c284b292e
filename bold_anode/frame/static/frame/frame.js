// What every page has: the light / dark switch, and files that upload as soon as they are chosen.
document.getElementById("theme")?.addEventListener("click", () => {
  const root = document.documentElement;
  root.dataset.bsTheme = root.dataset.bsTheme === "dark" ? "light" : "dark";
  localStorage.setItem("theme", root.dataset.bsTheme);
});

document.body.addEventListener("htmx:sendError", () => say("The application does not answer. Is it still running?"));
document.body.addEventListener("htmx:responseError", (event) => {
  const gone = event.detail.xhr.status === 404 || event.detail.xhr.status === 403;
  say(gone ? "That is no longer there, or you have been signed out. Load the page again." : "Something broke; nothing was changed.");
});

export function say(text) {
  const line = document.createElement("div");
  line.className = "notice error";
  line.textContent = text;
  document.getElementById("notice").replaceChildren(line);
}

// What a telephone's keyboard of digits lacks: a key beside the field types it there.
document.addEventListener("click", (event) => {
  const key = event.target.closest("[data-types]");
  if (!key) return;
  const field = key.closest("form").querySelector("input[inputmode]");
  const from = field.selectionStart ?? field.value.length;
  field.setRangeText(key.dataset.types, from, field.selectionEnd ?? from, "end");
  field.focus();
});
