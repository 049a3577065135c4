"use strict";
(() => {
  const table = document.getElementById("drifts");
  if (!table) return;
  const body = table.tBodies[0], rows = Array.from(body.rows);
  const heads = Array.from(table.tHead.rows[0].cells);
  const key = (row, column) => row.cells[column].dataset.order ?? row.cells[column].textContent;
  const compare = new Intl.Collator("en", { numeric: true }).compare;
  heads.forEach((head, column) => {
    const button = document.createElement("button");
    button.type = "button";
    button.textContent = head.textContent;
    head.replaceChildren(button);
    button.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      const ordered = [...rows].sort((a, b) => compare(key(a, column), key(b, column)) * (down ? -1 : 1));
      body.append(...ordered);
    });
  });
  const find = document.getElementById("find"), found = document.getElementById("found");
  const texts = rows.map((row) => row.textContent.toLowerCase());
  const show = () => {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0;
    rows.forEach((row, number) => {
      row.hidden = !words.every((word) => texts[number].includes(word));
      shown += row.hidden ? 0 : 1;
    });
    found.textContent = words.length ? `${shown} of ${rows.length} rows` : "";
  };
  find.addEventListener("input", show);
  find.closest("p").hidden = false;
})();
