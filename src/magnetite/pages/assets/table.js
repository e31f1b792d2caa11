"use strict";
// The score table: only the rows in view are in the document, so that thousands stay quick.
page.table = () => {
  const grid = page.by("grid");
  if (!grid) return;
  const ROW = 31;
  const AHEAD = 12;
  const PRINTED = 100;
  const head = grid.querySelector("thead");
  const body = grid.querySelector("tbody");
  const views = { rows: rowsView(), means: meansView() };
  let view = views.rows;
  let order = { column: null, down: false };
  let filters = {};
  let words = "";
  let shown = [];
  let printing = false;

  function rowsView() {
    const columns = page.data.columns.map((c, k) => ({ ...c, index: k }));
    if (page.data.pictures.some((picture) => picture.row !== null)) columns.unshift({ title: "picture", kind: "picture", index: columns.length });
    page.data.rows.forEach((row, at) => row.push(page.pictured([at]) ?? null));
    return { columns, rows: page.data.rows };
  }

  /** Names of degradations and treatments by the labels that means have: a chain, a name, or both. */
  const names = Object.fromEntries(["degradation", "treatment"].map((kind) => {
    const [chain, name] = [kind, `${kind} name`].map((title) => page.data.columns.findIndex((c) => c.title === title));
    return [kind, new Map(chain < 0 ? [] : page.data.rows.flatMap((row) => [row[chain], row[name], `${row[name]}: ${row[chain]}`].map((label) => [label, row[name]])))];
  }));

  /** Whether a row of a view has a value in a column of the single rows. */
  function has(row, title, index, value) {
    if (view === views.rows) return row[index] === value;
    const kind = title.replace(/ name$/, "");
    const column = view.columns.findIndex((c) => c.title === kind);
    return column < 0 || names[kind]?.get(row[column]) === value;
  }

  function meansView() {
    const titles = page.data.means.columns;
    const known = Object.fromEntries(page.data.columns.map((c) => [c.title, c]));
    const columns = titles.map((title, index) => ({ title, index, kind: index < 2 ? "text" : "number", ...(known[title] ? { unit: known[title].unit, better: known[title].better } : {}) }));
    return { columns, rows: page.data.means.rows };
  }

  function formats() {
    if (!view.formats) view.formats = view.columns.map((c) => (c.kind === "text" ? (v) => v ?? "" : page.aligned(view.rows.map((row) => row[c.index]))));
    return view.formats;
  }

  function controls() {
    const box = page.by("filters");
    const parts = [];
    if (page.data.means.rows.length) {
      const select = page.make("select", { id: "view" });
      page.options(select, [["rows", "single rows"], ["means", "means with 95 % interval"]]);
      page.kept.control(select, "table");
      view = views[select.value];
      select.addEventListener("change", () => { view = views[select.value]; order = { column: null, down: false }; page.kept.set("table-order", null); header(); refresh(); });
      parts.push(page.make("label", {}, "Show", select));
    }
    page.data.columns.forEach((column, index) => {
      if (column.kind !== "text" || column.title === "degradation" || column.title === "treatment") return;
      const values = [...new Set(page.data.rows.map((row) => row[index]))];
      if (values.length < 2 || values.length > 400) return;
      const select = page.make("select", { "data-column": column.title });
      page.options(select, [["", "all"], ...values.map((v) => [v, v])]);
      page.kept.control(select, `table-${column.title}`);
      filters[index] = select.value;
      select.addEventListener("change", () => { filters[index] = select.value; refresh(); });
      parts.push(page.make("label", {}, column.title, select));
    });
    const search = page.make("input", { type: "search", id: "search", placeholder: "dct step=4%" });
    page.kept.control(search, "table-words");
    words = search.value.trim().toLowerCase();
    search.addEventListener("input", () => { words = search.value.trim().toLowerCase(); refresh(); });
    parts.push(page.make("label", {}, "Words", search));
    const button = page.make("button", { type: "button", id: "export" }, "Save as CSV");
    button.addEventListener("click", save);
    parts.push(button);
    box.replaceChildren(...parts);
  }

  function header() {
    const cells = view.columns.map((column, k) => {
      const button = page.make("button", { type: "button" }, title(column));
      button.addEventListener("click", () => {
        order = { column: k, down: order.column === k ? !order.down : column.better === "higher" };
        page.kept.set("table-order", `${k}${order.down ? " down" : ""}`);
        refresh();
      });
      if (column.kind === "picture") return page.make("th", { scope: "col" }, column.title);
      return page.make("th", { scope: "col", class: column.kind === "text" ? "" : "n", "aria-sort": "none" }, button);
    });
    head.replaceChildren(page.make("tr", {}, ...cells));
  }

  function title(column) {
    const arrow = column.better === "higher" ? " ↑" : column.better === "lower" ? " ↓" : "";
    return `${column.title}${column.unit ? ` ${column.unit}` : ""}${arrow}`;
  }

  function refresh() {
    const wanted = Object.entries(filters).filter(([, value]) => value !== "").map(([index, value]) => [page.data.columns[index].title, Number(index), value]);
    for (const select of page.by("filters").querySelectorAll("[data-column]")) {
      // A mean over references has none of its own.
      select.disabled = view === views.means && !/^(degradation|treatment) name$/.test(select.dataset.column);
    }
    shown = view.rows.filter((row) => {
      if (!wanted.every(([title, index, value]) => has(row, title, index, value))) return false;
      return !words || view.columns.some((c) => c.kind === "text" && String(row[c.index]).toLowerCase().includes(words));
    });
    if (order.column !== null) sort();
    [...head.querySelectorAll("th")].forEach((cell, k) => {
      cell.setAttribute("aria-sort", order.column !== k ? "none" : order.down ? "descending" : "ascending");
      if (view.columns[k].kind === "picture") return;
      const button = cell.firstChild;
      button.textContent = title(view.columns[k]) + (order.column !== k ? "" : order.down ? " ▼" : " ▲");
    });
    count();
    page.by("rows").setAttribute("aria-rowcount", shown.length + 1);
    grid.scrollTop = 0;
    draw();
  }

  function count() {
    const noun = view === views.rows ? "rows" : "means";
    const over = view === views.rows ? "" : `; 95 % ${page.data.means.caption}`;
    const printed = printing && shown.length > PRINTED ? `; the first ${PRINTED} are printed` : "";
    page.by("rows-count").textContent = `${shown.length} of ${view.rows.length} ${noun}${over}${printed}`;
  }

  function sort() {
    const { index, kind } = view.columns[order.column];
    const sign = order.down ? -1 : 1;
    // The first key of a row is computed once; what has none stands last either way.
    const keyed = shown.map((row, place) => [row[index] === null ? null : kind === "text" ? row[index] : page.number(row[index]), place, row]);
    keyed.sort((a, b) => {
      if (a[0] === null || b[0] === null) return (a[0] === null) - (b[0] === null) || a[1] - b[1];
      return (a[0] < b[0] ? -sign : a[0] > b[0] ? sign : 0) || a[1] - b[1];
    });
    shown = keyed.map((entry) => entry[2]);
  }

  function draw() {
    const first = printing ? 0 : Math.max(0, Math.floor(grid.scrollTop / ROW) - AHEAD);
    const count = printing ? PRINTED : Math.ceil(grid.clientHeight / ROW) + 2 * AHEAD;
    const last = Math.min(shown.length, first + count);
    const write = formats();
    const lines = [];
    if (first > 0) lines.push(space(first));
    for (let k = first; k < last; k++) {
      const cells = view.columns.map((column, c) => {
        if (column.kind === "picture") return page.make("td", {}, page.showButton(shown[k][column.index]));
        const text = write[c](shown[k][column.index]);
        return page.make("td", column.kind === "text" ? { dir: "auto", title: text } : { class: "n" }, text);
      });
      lines.push(page.make("tr", { "aria-rowindex": k + 2 }, ...cells));
    }
    if (last < shown.length && !printing) lines.push(space(shown.length - last));
    body.replaceChildren(...lines);
  }

  function space(rows) {
    const line = page.make("tr", { class: "space", "aria-hidden": "true" }, page.make("td", { colspan: view.columns.length }));
    line.style.height = `${rows * ROW}px`;
    return line;
  }

  function save() {
    const quoted = (value) => {
      const text = value === null || value === undefined ? "" : String(value);
      return /[",\n\r]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
    };
    const columns = view.columns.filter((c) => c.kind !== "picture");
    const lines = [columns.map((c) => quoted(c.title)), ...shown.map((row) => columns.map((c) => quoted(row[c.index])))];
    page.download(new Blob([lines.map((line) => line.join(",")).join("\n") + "\n"], { type: "text/csv" }), "scores.csv");
  }

  grid.addEventListener("scroll", page.soon(draw), { passive: true });
  window.addEventListener("resize", page.soon(draw));
  window.addEventListener("beforeprint", () => { printing = true; count(); draw(); });
  window.addEventListener("afterprint", () => { printing = false; count(); draw(); });
  controls();
  header();
  const kept = /^(\d+)( down)?$/.exec(page.kept.get("table-order") ?? "");
  if (kept && Number(kept[1]) < view.columns.length) order = { column: Number(kept[1]), down: Boolean(kept[2]) };
  refresh();
};
