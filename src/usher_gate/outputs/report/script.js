"use strict";
(() => {
  const all = (selector, from = document) => Array.from(from.querySelectorAll(selector));
  const byId = (id) => document.getElementById(id);
  const make = (name, text) => Object.assign(document.createElement(name), { textContent: text });
  const button = (text) => Object.assign(make("button", text), { type: "button" });
  const text = (row, column) => row.cells[column].textContent;
  const annex = byId("drifts");
  // The columns of the annex.
  const [SEVERITY, RULE, WHOSE, NAME, UNIT, SERVICE, IS, DUE, PLACE] = [0, 1, 2, 3, 4, 5, 6, 7, 8];

  // Every table that can be searched, with the text of each of its rows.
  const tables = all("table.data").map((table) => ({
    table,
    rows: Array.from(table.tBodies[0].rows, (row) => ({ row, words: row.textContent.toLowerCase() })),
  }));
  const find = byId("find"), found = byId("found"), everything = byId("all");
  let only = null; // the unit and the area of a cell of the map: the annex shows its findings alone

  const inCell = (row) => {
    const unit = text(row, UNIT);
    const there = only.unit === "/" ? unit !== "" : unit === only.unit || (only.unit !== "" && unit.startsWith(`${only.unit}/`));
    return there && row.dataset.areas.split(" ").includes(only.area);
  };
  const show = () => {
    const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
    let shown = 0, whole = 0, inAnnex = 0;
    for (const { table, rows } of tables) {
      let here = 0;
      for (const { row, words: has } of rows) {
        const fits = words.every((word) => has.includes(word)) && (!only || table !== annex || inCell(row));
        if (row.hidden === fits) row.hidden = !fits;
        here += fits ? 1 : 0;
      }
      table.classList.toggle("empty", here === 0 && rows.length > 0);
      shown += here;
      if (table === annex) inAnnex = here;
      whole += rows.length;
    }
    found.textContent = words.length ? `${shown} of ${whole} rows` : "";
    if (only) found.textContent = `${inAnnex} ${inAnnex === 1 ? "finding" : "findings"} of ${only.name}`;
    everything.hidden = !(words.length || only);
  };
  find.addEventListener("input", show);
  everything.addEventListener("click", () => {
    find.value = "";
    only = null;
    show();
    find.focus();
  });
  find.closest("p").hidden = false;
  for (const link of all("a[data-area]")) {
    link.addEventListener("click", () => {
      only = { unit: link.dataset.unit, area: link.dataset.area, name: link.getAttribute("aria-label").split(": findings of ")[1] };
      find.value = "";
      show();
    });
  }
  if (!annex) return;

  // Headings of the annex sort it.
  const compare = new Intl.Collator("en", { numeric: true }).compare;
  const key = (row, column) => row.cells[column].dataset.order ?? text(row, column);
  const heads = Array.from(annex.tHead.rows[0].cells), body = annex.tBodies[0], rows = Array.from(body.rows);
  heads.forEach((head, column) => {
    const sort = button(head.textContent);
    head.replaceChildren(sort);
    sort.addEventListener("click", () => {
      const down = head.getAttribute("aria-sort") === "ascending";
      heads.forEach((other) => other.removeAttribute("aria-sort"));
      head.setAttribute("aria-sort", down ? "descending" : "ascending");
      body.append(...[...rows].sort((a, b) => compare(key(a, column), key(b, column)) * (down ? -1 : 1)));
    });
  });

  // A name opens a card: what drifts, why, and what to do.
  const card = byId("card");
  const rules = new Map(all("tr[data-rule]").map((row) => [row.dataset.rule, row]));
  const item = (row) => {
    const rule = rules.get(text(row, RULE)), entry = document.createElement("li");
    const severity = make("span", text(row, SEVERITY));
    severity.className = `severity ${text(row, SEVERITY)}`;
    const service = text(row, SERVICE) ? ` on ${text(row, SERVICE)}` : "";
    entry.append(severity, make("strong", ` ${text(row, RULE)}${service}: ${rule ? rule.querySelector("strong").textContent : ""}.`));
    const is = [`It is: ${text(row, IS)}.`, text(row, DUE) ? `It should be: ${text(row, DUE)}.` : "", text(row, PLACE) ? `Set at ${text(row, PLACE)}.` : ""];
    entry.append(document.createElement("br"), is.filter(Boolean).join(" "));
    const mend = rule?.querySelector(".mend");
    if (mend) entry.append(document.createElement("br"), mend.textContent);
    return entry;
  };
  const open = (whose) => {
    const mine = rows.filter((row) => text(row, WHOSE) === whose);
    const [first] = mine;
    byId("card-h").textContent = whose;
    byId("card-about").textContent = [text(first, NAME), text(first, UNIT), `${mine.length} ${mine.length === 1 ? "finding" : "findings"} on this page`].filter(Boolean).join(", ");
    byId("card-list").replaceChildren(...mine.map(item));
    card.showModal();
  };
  for (const row of rows) {
    const name = button(text(row, WHOSE));
    name.addEventListener("click", () => open(name.textContent));
    row.cells[WHOSE].replaceChildren(name);
  }
})();
