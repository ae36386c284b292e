// Light or dark before the first paint, and when the system changes: the builder's own choice, else the system's.
(() => {
  const system = matchMedia("(prefers-color-scheme: dark)");
  const paint = () => {
    const chosen = localStorage.getItem("theme");
    const dark = chosen ? chosen === "dark" : system.matches;
    document.documentElement.dataset.bsTheme = dark ? "dark" : "light";
  };
  system.addEventListener("change", paint);
  paint();
})();
