"use strict";
(() => {
  const id = (name) => document.getElementById(name);
  const [body, kind, word, all, none] = [id("matrix").tBodies[0], id("kind"), id("word"), id("all"), id("none")];
  // words: every text once. evidence: labels and texts by turns, as places in words. rows: for
  // each row its ports, those that are folded too, each with the evidence of its cells.
  const { words, evidence, rows } = JSON.parse(id("data").textContent);
  const lines = [...body.rows];
  const texts = lines.map((line) => `${line.cells[0].textContent} ${line.cells[1].textContent}`.toLowerCase());
  const places = new Map(lines.map((line, at) => [line, { ports: rows[at], port: 0 }]));
  const folded = new Map();

  const button = (text) => {
    const made = document.createElement("button");
    made.type = "button";
    made.textContent = text;
    made.ariaExpanded = "false";
    return made;
  };
  // A row gets its buttons when it comes into sight: all at once would take longer than all else.
  const dressed = new WeakSet();
  const dress = (line) => {
    if (dressed.has(line)) return;
    dressed.add(line);
    const { ports, port } = places.get(line);
    if (ports.length > 1 && port === 0) line.cells[0].append(button(`show all ${ports.length}`));
    for (const cell of line.cells) {
      if (cell.cellIndex > 1 && cell.className !== "none") cell.replaceChildren(button(cell.textContent));
    }
  };
  const sight = new IntersectionObserver((seen) => {
    for (const { isIntersecting, target } of seen) {
      if (!isIntersecting) continue;
      sight.unobserve(target);
      dress(target);
    }
  }, { root: document.querySelector(".wide"), rootMargin: "800px" });
  lines.forEach((line) => sight.observe(line));

  const draw = (cell) => {
    const { ports, port } = places.get(cell.parentNode);
    const all = evidence[ports[port][1][cell.cellIndex - 2]] ?? [];
    const table = document.createElement("table");
    for (let at = 0; at < all.length; at += 2) {
      const line = table.insertRow();
      const label = document.createElement("th");
      label.scope = "row";
      label.textContent = words[all[at]];
      line.append(label);
      line.insertCell().textContent = words[all[at + 1]];
    }
    cell.append(table);
  };
  const show = (button, yes) => {
    if ((button.ariaExpanded === "true") === yes) return;
    button.ariaExpanded = String(yes);
    const cell = button.parentNode;
    yes ? draw(cell) : cell.lastChild.remove();
  };
  const unfold = (button, yes) => {
    const line = button.closest("tr");
    if (!yes) {
      (folded.get(line) ?? []).forEach((other) => { places.delete(other); other.remove(); });
      folded.delete(line);
    } else {
      const { ports } = places.get(line);
      const others = ports.slice(1).map((named, at) => {
        const other = line.cloneNode(true);
        other.cells[0].textContent = named[0];
        other.querySelectorAll("td > table").forEach((table) => table.remove());
        places.set(other, { ports, port: at + 1 });
        dress(other);
        return other;
      });
      line.after(...others);
      folded.set(line, others);
    }
    button.ariaExpanded = String(yes);
    button.textContent = yes ? "fold" : `show all ${places.get(line).ports.length}`;
  };
  const buttons = () => [...body.querySelectorAll("td > button")];
  const open = (yes) => {
    if (yes) lines.forEach(dress);
    buttons().forEach((button) => show(button, yes));
    all.textContent = yes ? "Hide all evidence" : "Show all evidence";
  };
  const filter = () => {
    const wanted = word.value.trim().toLowerCase();
    let shown = 0;
    lines.forEach((line, at) => {
      const fits = (!kind.value || line.querySelector(`td.${kind.value}`)) && texts[at].includes(wanted);
      [line, ...(folded.get(line) ?? [])].forEach((one) => { one.hidden = !fits; });
      shown += fits ? 1 : 0;
    });
    none.hidden = shown > 0;
  };

  body.addEventListener("click", ({ target }) => {
    const button = target.closest("button");
    if (!button) return;
    const yes = button.ariaExpanded !== "true";
    button.parentNode.tagName === "TD" ? show(button, yes) : unfold(button, yes);
  });
  kind.addEventListener("change", filter);
  word.addEventListener("input", filter);
  all.addEventListener("click", () => open(!buttons().some((button) => button.ariaExpanded === "true")));
  id("filters").addEventListener("submit", (event) => event.preventDefault());
  id("filters").hidden = false;
  // On paper the list below tells what differs; the table stays one page wide.
  addEventListener("beforeprint", () => open(false));
})();
