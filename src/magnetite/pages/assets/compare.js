"use strict";
// The comparator: pictures of one reference at one scale and place, down to single samples.
page.compare = () => {
  const stage = page.by("stage");
  if (!stage) return;
  const MOST = 9;
  const all = page.data.pictures;
  const ui = Object.fromEntries(["compare-reference", "choices", "overlay", "wipe", "rate", "gain", "flick", "readout", "compare-words", "gain-words"].map((id) => [id, page.by(id)]));
  const view = { zoom: 0, x: 0, y: 0 };
  const state = { loaded: [], maps: [], reference: null, turn: 0, playing: true, begun: false, moved: false, pointer: null, difference: null };
  let timer = null;
  page.view = view;
  page.stageState = state;

  const mode = () => document.querySelector('input[name="mode"]:checked').value;
  const chosen = () => [...ui.choices.querySelectorAll("input:checked")].map((box) => all.find((p) => p.id === box.value));

  function references() {
    const names = [...new Set(all.map((p) => p.reference))];
    page.options(ui["compare-reference"], names.map((n) => [n, n]));
    page.kept.control(ui["compare-reference"], "compare-reference");
    ui["compare-reference"].addEventListener("change", () => { page.kept.set("pictures", null); choices(); });
    choices();
    const [zoom, x, y] = (page.kept.get("position") ?? "").split(" ").map(Number);
    if (zoom > 0 && Number.isFinite(x) && Number.isFinite(y)) Object.assign(view, { zoom, x, y });
  }

  /** Show the picture of a row of the table next to its reference. */
  page.show = (row) => {
    const picture = page.picturesByRow.get(row);
    const clean = all.find((p) => p.kind === "reference" && p.reference === picture.reference);
    if (!state.begun) begin();
    ui["compare-reference"].value = picture.reference;
    ui["compare-reference"].dispatchEvent(new Event("change"));
    for (const box of ui.choices.querySelectorAll("input")) box.checked = [clean?.id, picture.id].includes(box.value);
    changed();
    page.by("compare").scrollIntoView();
    stage.focus({ preventScroll: true });
  };

  function changed() {
    page.kept.set("pictures", chosen().map((p) => p.id).join(" "));
    load();
  }

  function choices() {
    const own = all.filter((p) => p.reference === ui["compare-reference"].value);
    const kept = (page.kept.get("pictures") ?? "").split(" ").filter((id) => own.some((p) => p.id === id));
    const first = kept.length ? kept : own.length > 2 ? [own[0].id, own[own.length - 1].id] : own.map((p) => p.id);
    ui.choices.replaceChildren(...own.map((picture) => {
      const box = page.make("input", { type: "checkbox", value: picture.id, checked: first.includes(picture.id) });
      box.addEventListener("change", () => { if (chosen().length > MOST) box.checked = false; changed(); });
      const scores = Object.entries(picture.scores).slice(0, 3).map(([k, v]) => `${k} ${page.figure(v)}`);
      const about = [picture.bpp === null ? "" : `${page.figure(picture.bpp)} bpp`, ...scores].filter(Boolean).join(", ");
      return page.make("label", { title: picture.detail }, box, page.make("bdi", {}, picture.label), page.make("span", { class: "about", dir: "auto" }, about || picture.words), picture.kind === "reference" ? null : page.make("span", { class: "about", dir: "auto" }, picture.detail));
    }));
    view.zoom = 0;
    load();
  }

  async function load() {
    const wanted = chosen();
    const reference = all.find((p) => p.kind === "reference" && p.reference === ui["compare-reference"].value) ?? wanted[0];
    ui["compare-words"].textContent = wanted.length ? "" : "Choose a picture.";
    page.pictures.forget(new Set([...wanted, reference].filter(Boolean).map((p) => p.id)));
    try {
      const loaded = await Promise.all(wanted.map(page.pictures.get));
      const clean = reference ? await page.pictures.get(reference) : null;
      if (wanted.map((p) => p.id).join() !== chosen().map((p) => p.id).join()) return;
      state.loaded = loaded;
      state.reference = clean;
      await maps();
    } catch (error) {
      ui["compare-words"].textContent = error.message;
      return;
    }
    state.difference = null;
    if (!view.zoom) fit();
    page.landscapeOf?.(state.loaded);
    draw();
  }

  async function maps() {
    const kind = ui.overlay.value;
    state.maps = await Promise.all(state.loaded.map((p) => {
      if (!kind || p.kind === "reference" || !sameSize(p, state.reference)) return null;
      return kind === "ssim" && !p.parts.includes("ssim") ? null : page.pictures.map(kind, state.reference, p);
    }));
  }

  const sameSize = (one, two) => one && two && one.width === two.width && one.height === two.height && one.channels === two.channels;

  /** Which rectangle of the stage, in CSS px, shows which pictures. */
  function panels(width, height) {
    const shown = state.loaded;
    if (!shown.length) return [];
    if (mode() === "side") {
      const columns = shown.length === 1 ? 1 : width < 560 ? (shown.length > 4 ? 2 : 1) : shown.length <= 3 ? shown.length : Math.ceil(Math.sqrt(shown.length));
      const rows = Math.ceil(shown.length / columns);
      return shown.map((p, k) => ({ left: ((k % columns) * width) / columns, top: (Math.floor(k / columns) * height) / rows, width: width / columns - 2, height: height / rows - 2, items: [k] }));
    }
    const whole = { left: 0, top: 0, width, height };
    if (mode() === "flicker") return [{ ...whole, items: [state.turn % shown.length] }];
    return [{ ...whole, items: shown.length > 1 ? [0, 1] : [0] }];
  }

  function fit() {
    const { width, height } = page.canvas(stage);
    const panel = panels(width, height)[0];
    const picture = state.loaded[0];
    if (!panel || !picture) return;
    view.zoom = Math.min(panel.width / picture.width, (panel.height - 24) / picture.height);
    view.x = picture.width / 2;
    view.y = picture.height / 2;
  }

  const draw = page.soon(() => {
    const { context, width, height } = page.canvas(stage);
    context.clearRect(0, 0, width, height);
    for (const panel of panels(width, height)) drawPanel(context, panel);
    words();
    readout();
    keepPosition();
    page.landscapeDraw?.();
  });

  let resting = null;
  /** Keep the position once the view rests: addresses may not change at every frame. */
  function keepPosition() {
    clearTimeout(resting);
    if (view.zoom && state.moved) resting = setTimeout(() => page.kept.set("position", [view.zoom, view.x, view.y].map((v) => Number(v.toPrecision(6))).join(" ")), 300);
  }

  function drawPanel(context, panel) {
    const first = state.loaded[panel.items[0]];
    const second = state.loaded[panel.items[1]];
    const kind = mode();
    const split = kind === "wipe" && second ? panel.left + (panel.width * ui.wipe.value) / 100 : null;
    if (kind === "difference" && second) {
      if (!sameSize(first, second)) { title(context, panel, "the pictures differ in size or colour"); return; }
      const gain = 2 ** ui.gain.value;
      const key = `${first.id} ${second.id} ${gain}`;
      if (state.difference?.key !== key) state.difference = { key, canvas: page.pictures.difference(first, second, gain) };
      picture(context, panel, state.difference.canvas, panel.left, panel.left + panel.width);
      title(context, panel, `${second.label} minus ${first.label}, times ${gain}; gray is 0`);
      return;
    }
    picture(context, panel, first.canvas, panel.left, split ?? panel.left + panel.width, state.maps[panel.items[0]]?.canvas, first);
    title(context, panel, first.label);
    if (split !== null) {
      picture(context, panel, second.canvas, split, panel.left + panel.width, state.maps[panel.items[1]]?.canvas, second);
      context.fillStyle = "#ffb000";
      context.fillRect(split - 1, panel.top, 2, panel.height);
      title(context, panel, second.label, true);
    }
  }

  /** Draw a picture at the common place and scale, clipped to a part of its panel. */
  function picture(context, panel, canvas, from, to, map, values) {
    context.save();
    context.beginPath();
    context.rect(from, panel.top, Math.max(0, to - from), panel.height);
    context.clip();
    const [left, top] = place(panel, 0, 0);
    context.imageSmoothingEnabled = view.zoom < 1;
    context.imageSmoothingQuality = "high";
    whole(context, canvas, left, top);
    if (map) { context.globalAlpha = 0.75; whole(context, map, left, top); context.globalAlpha = 1; }
    if (values && view.zoom >= 34) numbers(context, panel, values);
    cross(context, panel);
    context.restore();
  }

  /** Draw all of a canvas at the present scale, from a reduced copy where that is smaller. */
  function whole(context, canvas, left, top) {
    const { canvas: source, share } = page.pictures.reduced(canvas, view.zoom * (window.devicePixelRatio || 1));
    context.drawImage(source, 0, 0, canvas.width * share, canvas.height * share, left, top, canvas.width * view.zoom, canvas.height * view.zoom);
  }

  /** Where a sample's corner stands on the stage. */
  const place = (panel, x, y) => [panel.left + panel.width / 2 + (x - view.x) * view.zoom, panel.top + panel.height / 2 + (y - view.y) * view.zoom];

  function numbers(context, panel, values) {
    const across = panel.width / view.zoom / 2 + 1;
    const down = panel.height / view.zoom / 2 + 1;
    context.textAlign = "center";
    context.textBaseline = "middle";
    const size = Math.min(12, view.zoom / 4);
    context.font = `${size}px ui-monospace, monospace`;
    for (let y = Math.max(0, Math.floor(view.y - down)); y < Math.min(values.height, view.y + down); y++) {
      for (let x = Math.max(0, Math.floor(view.x - across)); x < Math.min(values.width, view.x + across); x++) {
        const at = (y * values.width + x) * values.channels;
        const [left, top] = place(panel, x + 0.5, y + 0.5);
        const light = values.values[at] / values.full > 0.5;
        context.fillStyle = light ? "#000" : "#fff";
        for (let c = 0; c < values.channels; c++) context.fillText(written(values, at + c), left, top + (c - (values.channels - 1) / 2) * size * 1.1);
      }
    }
  }

  const written = (values, at) => (values.factor === 1 ? String(values.values[at]) : values.values[at].toPrecision(4));

  function cross(context, panel) {
    const at = pointed();
    if (!at || view.zoom < 4) return;
    const [left, top] = place(panel, at.x, at.y);
    context.lineWidth = 3;
    context.strokeStyle = "#000";
    context.strokeRect(left, top, view.zoom, view.zoom);
    context.lineWidth = 1.5;
    context.strokeStyle = "#ffb000";
    context.strokeRect(left, top, view.zoom, view.zoom);
  }

  function title(context, panel, text, right = false) {
    context.save();
    context.font = "13px system-ui, sans-serif";
    context.textBaseline = "top";
    const room = (mode() === "wipe" ? panel.width / 2 : panel.width) - 16;
    let short = text;
    while (short.length > 4 && context.measureText(short).width > room) short = `${short.slice(0, -2).trimEnd()}…`.replace("……", "…");
    const width = context.measureText(short).width + 12;
    const left = right ? panel.left + panel.width - width - 2 : panel.left + 2;
    context.fillStyle = "rgba(0, 0, 0, 0.75)";
    context.fillRect(left, panel.top + 2, width, 20);
    context.fillStyle = "#fff";
    context.fillText(short, left + 6, panel.top + 5);
    context.restore();
  }

  /** The sample under the pointer, or in the middle of the view. */
  function pointed() {
    const first = state.loaded[0];
    if (!first) return null;
    const x = Math.floor(state.pointer ? state.pointer.x : view.x);
    const y = Math.floor(state.pointer ? state.pointer.y : view.y);
    return x >= 0 && y >= 0 && x < first.width && y < first.height ? { x, y } : null;
  }

  function readout() {
    const at = pointed();
    if (!at) { ui.readout.textContent = "outside the picture"; return; }
    const parts = state.loaded.filter((p) => at.x < p.width && at.y < p.height).map((p) => {
      const start = (at.y * p.width + at.x) * p.channels;
      const values = Array.from({ length: p.channels }, (_, c) => written(p, start + c)).join(" ");
      return `${p.label}: ${values} ${p.unit}`;
    });
    ui.readout.textContent = `x ${at.x}, y ${at.y}, ${page.figure(view.zoom)}×\n${parts.join("\n")}`;
  }

  function words() {
    const map = state.maps.find(Boolean);
    const two = ["wipe", "flicker", "difference"].includes(mode()) && state.loaded.length < 2;
    ui["compare-words"].textContent = two ? "Choose two pictures." : map ? map.words : "";
    ui["gain-words"].textContent = `${2 ** ui.gain.value}×`;
  }

  function modes() {
    const now = mode();
    page.by("wipe-label").hidden = now !== "wipe";
    page.by("rate-label").hidden = now !== "flicker";
    ui.flick.hidden = now !== "flicker";
    page.by("gain-label").hidden = now !== "difference";
    clearInterval(timer);
    if (now === "flicker" && state.playing) timer = setInterval(() => { state.turn += 1; draw(); }, 1000 / ui.rate.value);
    draw();
  }

  function zoomBy(factor, x = view.x, y = view.y) {
    const before = view.zoom;
    state.moved = true;
    view.zoom = Math.min(96, Math.max(0.02, view.zoom * factor));
    const share = 1 - before / view.zoom;
    view.x += (x - view.x) * share;
    view.y += (y - view.y) * share;
    draw();
  }

  function under(event) {
    const box = stage.getBoundingClientRect();
    const [x, y] = [event.clientX - box.left, event.clientY - box.top];
    const panel = panels(box.width, box.height).find((p) => x >= p.left && x < p.left + p.width + 2 && y >= p.top && y < p.top + p.height + 2);
    return panel && { x: view.x + (x - panel.left - panel.width / 2) / view.zoom, y: view.y + (y - panel.top - panel.height / 2) / view.zoom, panel, at: x };
  }

  let dragging = null;
  const fingers = new Map();

  /** Two fingers zoom about their middle and move with it. */
  function pinched(event) {
    const before = [...fingers.values()];
    fingers.set(event.pointerId, { x: event.clientX, y: event.clientY });
    const after = [...fingers.values()];
    const apart = ([a, b]) => Math.hypot(a.x - b.x, a.y - b.y);
    const middle = ([a, b]) => ({ clientX: (a.x + b.x) / 2, clientY: (a.y + b.y) / 2 });
    const at = under(middle(after));
    const [from, to] = [middle(before), middle(after)];
    view.x -= (to.clientX - from.clientX) / view.zoom;
    view.y -= (to.clientY - from.clientY) / view.zoom;
    if (at && apart(before) > 0) zoomBy(apart(after) / apart(before), at.x, at.y);
  }

  stage.addEventListener("wheel", (event) => {
    // The wheel scrolls the page; with a key held, or as two fingers on a touch pad, it zooms.
    if (!event.ctrlKey && !event.shiftKey && !event.metaKey) return;
    event.preventDefault();
    const at = under(event);
    if (at) zoomBy(Math.exp(-event.deltaY * 0.002), at.x, at.y);
  }, { passive: false });
  stage.addEventListener("pointerdown", (event) => {
    const at = under(event);
    if (!at) return;
    if (event.pointerType === "touch") fingers.set(event.pointerId, { x: event.clientX, y: event.clientY });
    if (fingers.size > 1) { dragging = null; return; }
    const split = at.panel.left + (at.panel.width * ui.wipe.value) / 100;
    dragging = { wipe: mode() === "wipe" && Math.abs(at.at - split) < 12, x: event.clientX, y: event.clientY };
    stage.setPointerCapture(event.pointerId);
  });
  stage.addEventListener("pointermove", (event) => {
    if (fingers.size === 2 && fingers.has(event.pointerId)) { pinched(event); return; }
    const at = under(event);
    if (dragging?.wipe && at) { ui.wipe.value = (100 * (at.at - at.panel.left)) / at.panel.width; } else if (dragging) {
      state.moved = true;
      view.x -= (event.clientX - dragging.x) / view.zoom;
      view.y -= (event.clientY - dragging.y) / view.zoom;
      dragging = { ...dragging, x: event.clientX, y: event.clientY };
    }
    state.pointer = at ? { x: at.x, y: at.y } : null;
    draw();
  });
  for (const name of ["pointerup", "pointercancel"]) stage.addEventListener(name, (event) => { dragging = null; fingers.delete(event.pointerId); });
  stage.addEventListener("pointerleave", () => { state.pointer = null; draw(); });
  function fitted() { state.moved = false; page.kept.set("position", null); fit(); draw(); }
  stage.addEventListener("dblclick", fitted);
  stage.addEventListener("keydown", (event) => {
    const step = view.zoom >= 8 ? 1 : 40 / view.zoom;
    const moves = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] };
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    if (moves[event.key]) { state.moved = true; view.x += moves[event.key][0]; view.y += moves[event.key][1]; state.pointer = null; draw(); } else if (event.key === "+" || event.key === "=") zoomBy(1.5);
    else if (event.key === "-") zoomBy(1 / 1.5);
    else if (event.key === "0") fitted(); else if (event.key === "[" || event.key === "]") { ui.wipe.value = Number(ui.wipe.value) + (event.key === "]" ? 5 : -5); draw(); } else return;
    event.preventDefault();
  });

  for (const name of ["overlay", "wipe", "rate", "gain"]) page.kept.control(ui[name], name);
  for (const radio of document.querySelectorAll('input[name="mode"]')) {
    if (radio.value === page.kept.get("mode")) radio.checked = true;
    radio.addEventListener("change", () => { page.kept.set("mode", mode() === "side" ? null : mode()); view.zoom = 0; fit(); modes(); });
  }
  ui.overlay.addEventListener("change", async () => { await maps(); draw(); });
  for (const name of ["wipe", "gain"]) ui[name].addEventListener("input", draw);
  ui.rate.addEventListener("input", modes);
  ui.flick.addEventListener("click", () => {
    state.playing = !state.playing;
    ui.flick.textContent = state.playing ? "Pause" : "Go on";
    ui.flick.setAttribute("aria-pressed", String(state.playing));
    modes();
  });
  page.by("zoom-fit").addEventListener("click", fitted);
  page.by("zoom-one").addEventListener("click", () => { state.moved = true; view.zoom = 1; draw(); });
  page.by("zoom-in").addEventListener("click", () => zoomBy(1.5));
  page.by("zoom-out").addEventListener("click", () => zoomBy(1 / 1.5));
  page.by("save-picture").addEventListener("click", () => stage.toBlob((blob) => page.download(blob, "comparison.png"), "image/png"));
  window.addEventListener("resize", draw);
  page.onTheme.push(draw);

  // Pictures are decoded when they come near, so that the page opens at once.
  const watch = new IntersectionObserver((entries) => {
    if (entries.some((entry) => entry.isIntersecting)) begin();
  }, { rootMargin: "400px" });
  function begin() {
    watch.disconnect();
    if (state.begun) return;
    state.begun = true;
    references();
    modes();
  }
  watch.observe(page.by("compare"));
  window.addEventListener("beforeprint", begin);
};
