"use strict";
(() => {
  const rows = [...document.querySelectorAll("#matrix > tbody > tr")];
  const [kind, word, all, none] = ["kind", "word", "all", "none"].map((id) => document.getElementById(id));
  const cells = [...document.querySelectorAll("#matrix details")];
  const filter = () => {
    const wanted = word.value.trim().toLowerCase();
    let shown = 0;
    for (const row of rows) {
      const fits = (!kind.value || row.dataset.kinds.split(" ").includes(kind.value)) && row.dataset.words.includes(wanted);
      row.hidden = !fits;
      shown += fits;
    }
    none.hidden = shown > 0;
  };
  const open = (yes) => {
    cells.forEach((cell) => { cell.open = yes; });
    all.textContent = yes ? "Hide all evidence" : "Show all evidence";
  };
  kind.addEventListener("change", filter);
  word.addEventListener("input", filter);
  all.addEventListener("click", () => open(!cells.some((cell) => cell.open)));
  document.getElementById("filters").addEventListener("submit", (event) => event.preventDefault());
  // On paper the list below tells what differs; the table stays one page wide.
  addEventListener("beforeprint", () => open(false));
})();
