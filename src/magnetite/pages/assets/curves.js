"use strict";
// Curves: any figure over any other, a line for each treatment, and the table of rates next to them.
page.curves = () => {
  const canvas = page.by("plot");
  if (!canvas) return;
  const SHAPES = ["circle", "rect", "triangle", "rectRot", "star", "crossRot", "rectRounded"];
  const DASHES = [[], [6, 4], [2, 3], [9, 3, 2, 3]];
  const index = Object.fromEntries(page.data.columns.map((c, k) => [c.title, k]));
  const figures = page.data.columns.filter((c) => c.kind === "figure");
  const level = "level of the degradation";
  const rated = index.bpp !== undefined;
  const selects = Object.fromEntries(["x", "y", "reference", "degradation", "level"].map((k) => [k, page.by(`curve-${k}`)]));
  const log = page.by("curve-log");
  const hidden = new Set();
  let chart = null;
  let lines = [];
  let left = [];

  const values = (title) => [...new Set(page.data.rows.map((row) => row[index[title]]))];
  const unit = (title) => (title === "bpp" ? "bits per px" : figures.find((c) => c.title === title)?.unit ?? "");
  const named = (title) => (title === "bpp" ? "rate (bpp)" : unit(title) ? `${title} (${unit(title)})` : title);

  function fill() {
    const across = [...(rated ? [["bpp", "rate, bpp"]] : []), [level, level], ...figures.map((c) => [c.title, c.title])];
    page.options(selects.x, across, rated ? "bpp" : level);
    page.options(selects.y, figures.map((c) => [c.title, c.title]), page.data.metric);
    const references = values("reference");
    page.options(selects.reference, [["", references.length > 1 ? `mean of ${references.length}` : references[0]], ...(references.length > 1 ? references.map((v) => [v, v]) : [])]);
    const degradations = values("degradation name");
    page.options(selects.degradation, [...degradations.map((v) => [v, v]), ...(degradations.length > 1 ? [["", "all"]] : [])], degradations[degradations.length - 1]);
    log.checked = rated;
    levels();
  }

  /** Levels of the degradation that is chosen; all of them together unless a rate is drawn across. */
  function levels() {
    const chosen = selects.degradation.value;
    const rows = page.data.rows.filter((row) => !chosen || row[index["degradation name"]] === chosen);
    const chains = chosen ? page.data.levels.filter((chain) => rows.some((row) => row[index.degradation] === chain)) : [];
    page.options(selects.level, [["", chains.length > 1 ? `all ${chains.length}` : "all"], ...(chains.length > 1 ? chains.map((v) => [v, v]) : [])]);
    selects.level.value = chains.length > 1 && selects.x.value !== level ? chains[chains.length >> 1] : "";
  }

  /** Whether a row is one of the reference, the degradation and the level that are chosen. */
  function chosen(row) {
    const choices = { reference: selects.reference, "degradation name": selects.degradation, degradation: selects.level };
    return Object.entries(choices).every(([column, select]) => !select.value || row[index[column]] === select.value);
  }

  /** Rows of every point: by line, then by setting, then by reference. */
  function collect(chains) {
    const x = selects.x.value;
    const y = selects.y.value;
    const groups = new Map();
    for (const [at, row] of page.data.rows.entries()) {
      if (!chosen(row)) continue;
      const chain = row[index.degradation];
      // A line is a treatment's settings at one level, or one setting over the levels.
      const names = x === level ? page.data.labels : page.data.families;
      const treatment = names[`${row[index["treatment name"]]}\n${row[index.treatment]}`] ?? row[index["treatment name"]];
      const name = treatment + (x === level || chains.length === 1 ? "" : ` · ${chain}`);
      const key = x === level ? chain : `${chain}\n${row[index.treatment]}`;
      const from = x === level ? chains.indexOf(chain) : page.number(row[index[x]]);
      const to = page.number(row[index[y]]);
      if (typeof from !== "number" || typeof to !== "number") continue;
      if (!groups.has(name)) groups.set(name, new Map());
      const own = groups.get(name);
      if (!own.has(key)) own.set(key, { chain, treatment: row[index.treatment], rows: new Map() });
      const rows = own.get(key).rows;
      if (!rows.has(row[index.reference])) rows.set(row[index.reference], []);
      rows.get(row[index.reference]).push([from, to, at]);
    }
    return groups;
  }

  /** Points of every line: means over repeats and over the references that have all points of all lines. */
  function gather() {
    const rows = page.data.rows.filter(chosen);
    const chains = page.data.levels.filter((chain) => rows.some((row) => row[index.degradation] === chain));
    const groups = collect(chains);
    left = [];
    let endless = 0;
    for (const own of groups.values()) {
      for (const [key, point] of own) {
        if ([...point.rows.values()].flat().some((pair) => !pair.every(Number.isFinite))) { endless += 1; own.delete(key); }
      }
    }
    if (endless) left.push(`${endless} point${endless > 1 ? "s" : ""} of infinite value not drawn`);
    const points = [...groups.values()].flatMap((own) => [...own.values()]);
    const references = [...new Set(points.flatMap((point) => [...point.rows.keys()]))];
    const whole = new Set(references.filter((name) => points.every((point) => {
      const most = Math.max(...[...point.rows.values()].map((pairs) => pairs.length));
      return point.rows.get(name)?.length === most;
    })));
    if (whole.size < references.length) left.push(`left out, since a row of theirs is missing: ${references.filter((name) => !whole.has(name)).join(", ")}`);
    const mean = (pairs, k) => pairs.reduce((sum, pair) => sum + pair[k], 0) / pairs.length;
    lines = [...groups].map(([name, own], number) => ({
      name, number,
      points: [...own.values()].map((point) => {
        const means = [...whole].map((reference) => [0, 1].map((k) => mean(point.rows.get(reference), k)));
        return { x: mean(means, 0), y: mean(means, 1), n: whole.size, chain: point.chain, treatment: point.treatment, row: page.pictured([...whole].flatMap((reference) => point.rows.get(reference).map((own) => own[2]))) };
      }).filter((point) => point.n).sort((one, two) => one.x - two.x),
    })).filter((line) => line.points.length);
    lines.references = whole.size;
    return chains;
  }

  function datasets() {
    return lines.map((line) => {
      const colour = page.colour(`--c${line.number % 7}`);
      return {
        label: line.name, data: line.points, borderColor: colour, backgroundColor: colour, borderWidth: 2, pointRadius: 4.5, pointHoverRadius: 7,
        pointStyle: SHAPES[line.number % SHAPES.length], borderDash: DASHES[Math.floor(line.number / 7) % DASHES.length], hidden: hidden.has(line.name), tension: 0,
      };
    });
  }

  /** Draw the chart now, and what stands around it in a task of its own. */
  function draw() {
    const chains = gather();
    const ink = page.colour("--ink");
    const grid = page.colour("--line");
    const across = selects.x.value;
    const logarithmic = log.checked && across !== level && lines.every((l) => l.points.every((p) => p.x > 0));
    const scale = (title, extra = {}) => ({ title: { display: true, text: title, color: ink, font: { size: 13 } }, ticks: { color: ink, font: { size: 12 } }, grid: { color: grid }, ...extra });
    const x = scale(named(across), { type: logarithmic ? "logarithmic" : "linear" });
    x.ticks.maxRotation = 0;
    if (logarithmic) x.ticks.callback = (v) => (/^[125]/.test(Number(v).toExponential()) ? String(Number(Number(v).toPrecision(3))) : "");
    if (across === level) { x.ticks.callback = (v) => chains[v] ?? ""; x.ticks.stepSize = 1; x.ticks.maxRotation = 40; }
    const options = {
      responsive: true, maintainAspectRatio: false, animation: false, parsing: false, normalized: true,
      interaction: { mode: "nearest", intersect: false },
      onClick: (event, items) => { const point = items[0]?.element.$context.raw; if (point?.row !== undefined && pictured()) page.show?.(point.row); },
      scales: { x, y: scale(named(selects.y.value)) },
      plugins: {
        legend: { display: false },
        tooltip: {
          callbacks: {
            title: (items) => items[0]?.dataset.label ?? "",
            label: (item) => [`${named(across)}: ${across === level ? chains[item.raw.x] : page.figure(item.raw.x)}`, `${named(selects.y.value)}: ${page.figure(item.raw.y)}`, across === level ? "" : item.raw.treatment, `mean of ${item.raw.n} reference${item.raw.n > 1 ? "s" : ""}`].filter(Boolean),
          },
        },
      },
    };
    if (chart) chart.destroy();
    chart = new Chart(canvas, { type: "line", data: { datasets: datasets() }, options });
    page.chart = chart;
    canvas.setAttribute("aria-label", `${named(selects.y.value)} over ${named(across)}, ${lines.length} curves; the points are in the table below.`);
    setTimeout(() => {
      legend();
      rates();
      if (page.by("points").open) points();
    }, 0);
    const all = values("reference").length;
    const of = selects.reference.value || `the mean over ${lines.references === all ? "" : `${lines.references} of `}${all} references`;
    page.by("curve-words").textContent = lines.length ? `Each point is ${of}, and the mean over repeats${left.length ? `; ${left.join("; ")}` : ""}. Click a name to hide its curve.` : `No finite value to draw${left.length ? `: ${left.join("; ")}` : ""}.`;
  }

  function legend() {
    const ink = page.colour("--ink");
    page.by("legend").replaceChildren(...lines.map((line, k) => {
      const sample = page.make("canvas", { width: 68, height: 28, "aria-hidden": "true" });
      const context = sample.getContext("2d");
      context.scale(2, 2);
      context.strokeStyle = context.fillStyle = page.colour(`--c${line.number % 7}`) || ink;
      context.lineWidth = 2;
      context.setLineDash(DASHES[Math.floor(line.number / 7) % DASHES.length]);
      context.beginPath(); context.moveTo(0, 7); context.lineTo(34, 7); context.stroke();
      Chart.helpers.drawPoint(context, { pointStyle: SHAPES[line.number % SHAPES.length], radius: 4.5, borderWidth: 2 }, 17, 7);
      const button = page.make("button", { type: "button", "aria-pressed": String(!hidden.has(line.name)) }, sample, page.make("bdi", {}, line.name));
      button.addEventListener("click", () => {
        if (hidden.has(line.name)) hidden.delete(line.name); else hidden.add(line.name);
        chart.setDatasetVisibility(k, !hidden.has(line.name));
        chart.update("none");
        button.setAttribute("aria-pressed", String(!hidden.has(line.name)));
      });
      return button;
    }));
  }

  /** Whether points are single rows of one reference, which have pictures. */
  const pictured = () => Boolean(selects.reference.value || lines.references === 1);

  function points() {
    const titles = ["curve", "treatment", selects.x.value, selects.y.value, ...(pictured() ? ["picture"] : [])];
    const write = [2, 3].map((k) => page.aligned(lines.flatMap((l) => l.points.map((p) => (k === 2 ? p.x : p.y)))));
    const head = page.make("thead", {}, page.make("tr", {}, ...titles.map((t, k) => page.make("th", { scope: "col", class: k > 1 ? "n" : "" }, t))));
    const body = page.make("tbody", {}, ...lines.flatMap((line) => line.points.slice(0, 200).map((p) => page.make("tr", {},
      page.make("td", { dir: "auto" }, line.name), page.make("td", { dir: "auto" }, selects.x.value === level ? p.chain : p.treatment),
      page.make("td", { class: "n" }, selects.x.value === level ? p.chain : write[0](p.x)), page.make("td", { class: "n" }, write[1](p.y)), pictured() ? page.make("td", {}, page.showButton?.(p.row)) : null))));
    page.by("points-table").replaceChildren(head, body);
  }

  function rates() {
    const tables = page.data.rates.filter((t) => t.metric === selects.y.value && t.degradation === selects.degradation.value);
    const table = tables.find((t) => t.level === selects.level.value) ?? (tables.length === 1 ? tables[0] : undefined);
    const where = selects.degradation.value ? ` after ${selects.level.value || selects.degradation.value}` : "";
    page.by("rates-title").textContent = table ? table.title + where : `Nothing to compare by ${selects.y.value}${where}`;
    page.by("rates-caption").textContent = table ? table.caption : tables.length ? "Choose a level: its treatments are compared at that level alone." : "";
    page.by("rates-notes").replaceChildren(...(table?.notes ?? []).map((note) => page.make("p", { class: "dim", dir: "auto" }, ...page.isolated(note))));
    if (!table) { page.by("rates-table").replaceChildren(); return; }
    const texts = table.columns.map((_, k) => table.rows.some((row) => typeof row[k] === "string" && row[k] !== "inf"));
    const write = table.columns.map((_, k) => page.aligned(table.rows.map((row) => row[k])));
    page.by("rates-table").replaceChildren(
      page.make("thead", {}, page.make("tr", {}, ...table.columns.map((c, k) => page.make("th", { scope: "col", class: texts[k] ? "" : "n" }, c)))),
      page.make("tbody", {}, ...table.rows.map((row) => page.make("tr", {}, ...row.map((v, k) => page.make("td", texts[k] ? { dir: "auto" } : { class: "n" }, texts[k] ? v ?? "" : write[k](v)))))),
    );
  }

  fill();
  for (const [name, select] of Object.entries(selects)) {
    if (name === "level") levels(); // they follow from the degradation
    page.kept.control(select, `curve-${name}`);
  }
  log.checked = selects.x.value === "bpp";
  page.kept.control(log, "curve-log");
  for (const select of Object.values(selects)) select.addEventListener("change", () => {
    if (select === selects.x) { log.checked = select.value === "bpp"; page.kept.set("curve-log", null); }
    if (select === selects.degradation || select === selects.x) { levels(); page.kept.set("curve-level", null); }
    draw();
  });
  log.addEventListener("change", draw);
  page.by("points").addEventListener("toggle", () => { if (page.by("points").open) points(); });
  page.onTheme.push(draw);
  return draw;
};
