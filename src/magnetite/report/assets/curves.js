"use strict";
// Curves: any figure over any other, a line for each treatment, and the table of rates beside them.
page.curves = () => {
  const canvas = page.by("plot");
  if (!canvas) return;
  const SHAPES = ["circle", "rect", "triangle", "rectRot", "star", "crossRot", "rectRounded"];
  const DASHES = [[], [6, 4], [2, 3], [9, 3, 2, 3]];
  const index = Object.fromEntries(page.data.columns.map((c, k) => [c.title, k]));
  const figures = page.data.columns.filter((c) => c.kind === "figure");
  const level = "level of the degradation";
  const rated = index.bpp !== undefined;
  const selects = Object.fromEntries(["x", "y", "reference", "degradation"].map((k) => [k, page.by(`curve-${k}`)]));
  const log = page.by("curve-log");
  const hidden = new Set();
  let chart = null;
  let lines = [];

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
  }

  /** Points of every line: means over the rows of a setting, of all repeats and references shown. */
  function gather() {
    const x = selects.x.value;
    const y = selects.y.value;
    const groups = new Map();
    const chains = [];
    for (const row of page.data.rows) {
      if (selects.reference.value && row[index.reference] !== selects.reference.value) continue;
      if (selects.degradation.value && row[index["degradation name"]] !== selects.degradation.value) continue;
      const chain = row[index.degradation];
      if (!chains.includes(chain)) chains.push(chain);
      const name = row[index["treatment name"]] + (selects.degradation.value || x === level ? "" : ` · ${row[index["degradation name"]]}`);
      const key = x === level ? chain : `${chain}\n${row[index.treatment]}`;
      const from = x === level ? chains.indexOf(chain) : page.number(row[index[x]]);
      const to = page.number(row[index[y]]);
      if (!Number.isFinite(from) || !Number.isFinite(to)) continue;
      if (!groups.has(name)) groups.set(name, new Map());
      const own = groups.get(name);
      if (!own.has(key)) own.set(key, { x: 0, y: 0, n: 0, chain, treatment: row[index.treatment] });
      const point = own.get(key);
      point.x += from; point.y += to; point.n += 1;
    }
    lines = [...groups].map(([name, own], number) => ({
      name, number,
      points: [...own.values()].map((p) => ({ ...p, x: p.x / p.n, y: p.y / p.n })).sort((a, b) => a.x - b.x),
    }));
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
      scales: { x, y: scale(named(selects.y.value)) },
      plugins: {
        legend: { display: false },
        tooltip: {
          callbacks: {
            title: (items) => items[0]?.dataset.label ?? "",
            label: (item) => [`${named(across)}: ${across === level ? chains[item.raw.x] : page.figure(item.raw.x)}`, `${named(selects.y.value)}: ${page.figure(item.raw.y)}`, across === level ? "" : item.raw.treatment, `mean of ${item.raw.n} rows`].filter(Boolean),
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
    const of = selects.reference.value || `the mean over ${values("reference").length} references`;
    page.by("curve-words").textContent = `Each point is ${of}, and the mean over repeats. Click a name to hide its curve.`;
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

  function points() {
    const titles = ["curve", "treatment", selects.x.value, selects.y.value];
    const write = [2, 3].map((k) => page.aligned(lines.flatMap((l) => l.points.map((p) => (k === 2 ? p.x : p.y)))));
    const head = page.make("thead", {}, page.make("tr", {}, ...titles.map((t, k) => page.make("th", { scope: "col", class: k > 1 ? "n" : "" }, t))));
    const body = page.make("tbody", {}, ...lines.flatMap((line) => line.points.slice(0, 200).map((p) => page.make("tr", {},
      page.make("td", { dir: "auto" }, line.name), page.make("td", { dir: "auto" }, selects.x.value === level ? p.chain : p.treatment),
      page.make("td", { class: "n" }, selects.x.value === level ? p.chain : write[0](p.x)), page.make("td", { class: "n" }, write[1](p.y))))));
    page.by("points-table").replaceChildren(head, body);
  }

  function rates() {
    const table = page.data.rates.find((t) => t.metric === selects.y.value && t.degradation === selects.degradation.value);
    const where = selects.degradation.value ? ` after ${selects.degradation.value}` : "";
    page.by("rates-title").textContent = table ? table.title + where : `Nothing to compare by ${selects.y.value}${where}`;
    page.by("rates-caption").textContent = table ? table.caption : "";
    if (!table) { page.by("rates-table").replaceChildren(); return; }
    const texts = table.columns.map((_, k) => table.rows.some((row) => typeof row[k] === "string" && row[k] !== "inf"));
    const write = table.columns.map((_, k) => page.aligned(table.rows.map((row) => row[k])));
    page.by("rates-table").replaceChildren(
      page.make("thead", {}, page.make("tr", {}, ...table.columns.map((c, k) => page.make("th", { scope: "col", class: texts[k] ? "" : "n" }, c)))),
      page.make("tbody", {}, ...table.rows.map((row) => page.make("tr", {}, ...row.map((v, k) => page.make("td", texts[k] ? { dir: "auto" } : { class: "n" }, texts[k] ? v ?? "" : write[k](v)))))),
    );
  }

  fill();
  for (const select of Object.values(selects)) select.addEventListener("change", () => { if (select === selects.x) log.checked = select.value === "bpp"; draw(); });
  log.addEventListener("change", draw);
  page.by("points").addEventListener("toggle", () => { if (page.by("points").open) points(); });
  page.onTheme.push(draw);
  return draw;
};
