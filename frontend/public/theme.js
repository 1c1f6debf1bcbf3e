// Set before the first paint, so that a dark page does not flash white.
(() => {
  const wish = localStorage.getItem("theme");
  const dark = wish ? wish === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.theme = dark ? "dark" : "light";
})();
