"use strict";
// What all parts of the page use: its data, how a figure is written, small helpers.
const magnetitePictures = {};
const page = { data: JSON.parse(document.getElementById("data").textContent), onTheme: [] };

page.by = (id) => document.getElementById(id);

/** An element with text and attributes; text is never read as markup. */
page.make = (tag, attributes = {}, ...children) => {
  const element = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (value === false || value === null || value === undefined) continue;
    element.setAttribute(name, value === true ? "" : value);
  }
  element.append(...children.filter((child) => child !== null && child !== undefined).map((c) => (typeof c === "number" ? String(c) : c)));
  return element;
};

/** A figure to four significant digits, as the program prints it; a dash for none. */
page.figure = (value) => {
  if (value === null || value === undefined) return "–";
  if (value === "inf") return "∞";
  if (value === "-inf") return "−∞";
  if (typeof value === "string") return value;
  if (Number.isInteger(value)) return String(value);
  const size = Math.abs(value);
  if (size >= 1e4 && size < 1e9) return value.toFixed(0);
  if (size < 1e-4 || size >= 1e9) return value.toExponential(3).replace(/e([+-])(\d)$/, "e$10$2");
  return value.toFixed(Math.max(0, 3 - Math.floor(Math.log10(size))));
};

/** Figures of one column with equal decimal places, by the rule of the program's tables: none but 0 is written as 0. */
page.aligned = (values) => {
  const sizes = values.filter((v) => typeof v === "number" && v !== 0).map(Math.abs).sort((a, b) => a - b);
  const middle = sizes[Math.floor((sizes.length - 1) / 2)];
  const whole = values.every((v) => typeof v !== "number" || Number.isInteger(v));
  if (whole || !(middle >= 1e-4 && middle < 1e7)) return page.figure;
  const decade = (size) => Math.floor(Math.log10(size));
  const places = Math.min(6, Math.max(0, 3 - decade(middle), 2 - decade(sizes[0])));
  const least = 10 ** -places;
  return (v) => {
    if (typeof v !== "number" || Math.abs(v) >= 1e9) return page.figure(v);
    if (v !== 0 && Math.abs(v) < least / 2) return v > 0 ? `<${least.toFixed(places)}` : `>${(-least).toFixed(places)}`;
    return v.toFixed(places);
  };
};

/** Text whose names in quotes are isolated, so that their direction of writing turns nothing around. */
page.isolated = (text) => text.split(/(“[^”]*”)/).map((part) => (part.startsWith("“") ? page.make("bdi", {}, part) : part));

/** Offer content as a file to be saved. */
page.download = (blob, name) => {
  const link = page.make("a", { href: URL.createObjectURL(blob), download: name });
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 1000);
};

/** The first of some rows that has a picture; undefined where none has. */
page.pictured = (rows) => {
  page.picturesByRow ??= new Map(page.data.pictures.filter((p) => p.row !== null).map((p) => [p.row, p]));
  return rows.find((row) => page.picturesByRow.has(row));
};

/** A button that shows the picture of a row; nothing for a row without one. */
page.showButton = (row) => {
  if (row === null || row === undefined) return null;
  const button = page.make("button", { type: "button", class: "small" }, "show");
  button.addEventListener("click", () => page.show(row));
  return button;
};

page.number = (value) => (value === "inf" ? Infinity : value === "-inf" ? -Infinity : value);

page.colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** Fill a select; options are [value, words]. */
page.options = (select, options, chosen) => {
  select.replaceChildren(...options.map(([value, words]) => page.make("option", { value, dir: "auto" }, words)));
  if (chosen !== undefined) select.value = chosen;
};

/** A canvas as large as it is shown, in px of the screen; gives its context, width and height in CSS px. */
page.canvas = (canvas) => {
  const ratio = window.devicePixelRatio || 1;
  const width = canvas.clientWidth;
  const height = canvas.clientHeight;
  if (canvas.width !== Math.round(width * ratio) || canvas.height !== Math.round(height * ratio)) {
    canvas.width = Math.round(width * ratio);
    canvas.height = Math.round(height * ratio);
  }
  const context = canvas.getContext("2d");
  context.setTransform(ratio, 0, 0, ratio, 0, 0);
  return { context, width, height };
};

/** Call a function once before the next frame, however often it is asked for. */
page.soon = (work) => {
  let waiting = false;
  return () => {
    if (waiting) return;
    waiting = true;
    requestAnimationFrame(() => { waiting = false; work(); });
  };
};
