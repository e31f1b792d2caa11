"use strict";
// The guarantee: every reference as a line over the settings, and the share that meets the need.
page.guarantee = () => {
  const data = page.data.guarantee;
  if (!data) return;
  const [sequence, figure] = ["sequence", "figure"].map((name) => page.by(`guarantee-${name}`));
  let charts = [];
  page.options(sequence, data.sequences.map((one, k) => {
    const levels = data.sequences.filter((other) => other.name === one.name).length;
    return [String(k), levels > 1 ? `${one.name} after ${one.settings[0].degradation}` : one.name];
  }));
  page.options(figure, data.targets.map((one, k) => [String(k), `${one.name} ${one.sense === ">=" ? "≥" : "≤"} ${one.value}`]));

  /** Positions of the settings: their rates where all have one, else their order. */
  function positions(settings) {
    const rates = settings.map((one) => one.bpp);
    const rated = rates.every((rate) => rate !== null && rate > 0) && new Set(rates).size === rates.length;
    return { rated, at: rated ? rates : settings.map((_, k) => k) };
  }

  const short = (text) => (text.length > 24 ? `${text.slice(0, 11)}…${text.slice(-11)}` : text);

  function axes(settings, rated, title) {
    const ink = page.colour("--ink");
    const scale = (text, more = {}) => ({ title: { display: true, text, color: ink, font: { size: 13 } }, ticks: { color: ink, maxRotation: 40 }, grid: { color: page.colour("--line") }, ...more });
    const varied = new Set(settings.map((one) => one.treatment)).size > 1 ? "treatment" : "degradation";
    const x = scale(rated ? "rate (bpp), mean of the references" : varied, { type: rated ? "logarithmic" : "linear" });
    if (rated) x.ticks.callback = (v) => (/^[125]/.test(Number(v).toExponential()) ? String(Number(Number(v).toPrecision(3))) : "");
    else { x.ticks.stepSize = 1; x.ticks.callback = (v) => (settings[v] ? short(settings[v][varied]) : ""); }
    return { x, y: scale(title) };
  }

  function draw() {
    const own = data.sequences[Number(sequence.value)];
    const target = data.targets[Number(figure.value)];
    const { rated, at } = positions(own.settings);
    const ends = [Math.min(...at), Math.max(...at)];
    const plain = { borderWidth: 1.2, pointRadius: 2, pointHoverRadius: 6, tension: 0 };
    const across = (label, value, colour) => ({ label, data: ends.map((x) => ({ x, y: value })), borderColor: colour, borderWidth: 2, borderDash: [6, 4], pointRadius: 0 });
    const lines = Object.entries(own.lines[Number(figure.value)]).map(([name, { values, met }]) => {
      const colour = page.colour(met ? "--c0" : "--c1");
      return { ...plain, label: name, borderColor: colour, backgroundColor: colour, data: values.map((y, k) => ({ x: at[k], y, k })).filter((point) => point.y !== null) };
    });
    charts.forEach((chart) => chart.destroy());
    const common = { responsive: true, maintainAspectRatio: false, animation: false, parsing: false, interaction: { mode: "nearest", intersect: false } };
    const pointed = (items) => {
      const item = items.find((one) => one.dataset.data[one.dataIndex].k !== undefined);
      if (item) page.by("guarantee-pointed").textContent = `${item.dataset.label}: ${target.name} ${page.figure(item.raw.y)} at ${own.settings[item.raw.k].treatment}`;
    };
    const label = (item) => [`${item.dataset.label}: ${page.figure(item.raw.y)}`, item.raw.k === undefined ? "" : own.settings[item.raw.k].treatment].filter(Boolean);
    const plugins = (more) => ({ legend: { display: false }, tooltip: { callbacks: { title: () => "", label, afterBody: (items) => { pointed(items); return ""; } } }, ...more });
    charts = [
      new Chart(page.by("guarantee-scores"), {
        type: "line", data: { datasets: [...lines, across("need", target.value, page.colour("--bad"))] },
        options: { ...common, scales: axes(own.settings, rated, target.name), plugins: plugins({}) },
      }),
      new Chart(page.by("guarantee-shares"), {
        type: "line",
        data: { datasets: [
          { ...plain, label: "meets the need, %", borderWidth: 2, borderColor: page.colour("--c0"), backgroundColor: page.colour("--c0"), pointRadius: 4, data: own.settings.map((one, k) => ({ x: at[k], y: (100 * one.passed) / one.of, k })) },
          { ...plain, label: "bound, %", borderWidth: 2, borderColor: page.colour("--c2"), backgroundColor: page.colour("--c2"), pointRadius: 4, pointStyle: "rect", data: own.settings.map((one, k) => ({ x: at[k], y: 100 * one.bound, k })) },
          across("wanted, %", data.share, page.colour("--bad")),
        ] },
        options: { ...common, scales: axes(own.settings, rated, "share of references (%)"), plugins: plugins({ legend: { display: true, labels: { color: page.colour("--ink"), usePointStyle: true } } }) },
      }),
    ];
    charts[1].options.scales.y.min = 0;
    charts[1].options.scales.y.max = 100;
    charts[1].update("none");
    page.guaranteeCharts = charts;
    page.by("guarantee-words").replaceChildren(...page.isolated(own.sentence));
    table(own);
  }

  function table(own) {
    const keys = Object.keys(own.settings[0]);
    const texts = new Set(["degradation", "treatment", "guaranteed"]);
    const write = Object.fromEntries(keys.map((key) => [key, page.aligned(own.settings.map((one) => one[key]))]));
    page.by("guarantee-table").replaceChildren(
      page.make("thead", {}, page.make("tr", {}, ...keys.map((key) => page.make("th", { scope: "col", class: texts.has(key) ? "" : "n" }, key)))),
      page.make("tbody", {}, ...own.settings.map((one) => page.make("tr", {}, ...keys.map((key) => page.make("td", texts.has(key) ? { dir: "auto" } : { class: "n" }, texts.has(key) ? one[key] : write[key](one[key])))))),
    );
  }

  page.kept.control(sequence, "guarantee-sequence");
  page.kept.control(figure, "guarantee-figure");
  sequence.addEventListener("change", draw);
  figure.addEventListener("change", draw);
  page.onTheme.push(draw);
  return draw;
};
