// Light or dark before the first paint: the builder's own choice, else the system's.
(() => {
  const chosen = localStorage.getItem("theme");
  const dark = chosen ? chosen === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.bsTheme = dark ? "dark" : "light";
})();
