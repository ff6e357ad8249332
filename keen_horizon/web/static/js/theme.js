// Before anything is painted: day or night, as chosen last, or as the system has it.
(() => {
  const kept = localStorage.getItem("keen-light");
  const dark = kept ? kept === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  document.documentElement.dataset.bsTheme = dark ? "dark" : "light";
})();
