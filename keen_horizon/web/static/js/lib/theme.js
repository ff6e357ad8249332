// Before anything is painted: day or night, as chosen last, or as the system has it.
(() => {
  let kept = null;
  try {
    kept = localStorage.getItem("keen-light");
  } catch {
    // Storage is forbidden: the system decides.
  }
  const dark = kept ? kept === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.bsTheme = dark ? "dark" : "light";
})();
