"use strict";
// Intensity as a landscape: the part of a picture that is seen, as heights, from any side.
page.landscape = () => {
  const canvas = page.by("land");
  if (!canvas) return;
  const MOST = 72;
  const SAMPLES = 8; // of a facet, along each side
  const turn = page.by("turn");
  const tilt = page.by("tilt");
  const choice = page.by("land-picture");
  let pictures = [];

  page.landscapeOf = (loaded) => {
    pictures = loaded;
    const before = choice.value;
    page.options(choice, loaded.map((p) => [p.id, p.label]), loaded.some((p) => p.id === before) ? before : undefined);
  };

  /** Heights of the part that is seen, means of a few facets, each of up to 8x8 samples, 0 to 1. */
  function heights(picture) {
    const { view } = page;
    const stage = page.by("stage");
    const half = { x: stage.clientWidth / view.zoom / 2, y: stage.clientHeight / view.zoom / 2 };
    const left = Math.max(0, Math.floor(view.x - half.x));
    const top = Math.max(0, Math.floor(view.y - half.y));
    const right = Math.min(picture.width, Math.ceil(view.x + half.x));
    const bottom = Math.min(picture.height, Math.ceil(view.y + half.y));
    const size = Math.max(1, Math.ceil(Math.max(right - left, bottom - top) / MOST));
    const columns = Math.max(1, Math.floor((right - left) / size));
    const rows = Math.max(1, Math.floor((bottom - top) / size));
    const stride = Math.max(1, Math.floor(size / SAMPLES));
    const weights = picture.channels === 3 ? [0.299, 0.587, 0.114] : [1];
    const found = [];
    for (let r = 0; r < rows; r++) {
      const line = new Float32Array(columns);
      for (let c = 0; c < columns; c++) {
        let sum = 0;
        let count = 0;
        for (let y = top + r * size; y < Math.min(bottom, top + (r + 1) * size); y += stride) {
          for (let x = left + c * size; x < Math.min(right, left + (c + 1) * size); x += stride) {
            const at = (y * picture.width + x) * picture.channels;
            for (let k = 0; k < weights.length; k++) sum += weights[k] * picture.values[at + k];
            count += 1;
          }
        }
        line[c] = count ? sum / count / picture.full : 0;
      }
      found.push(line);
    }
    return { found, rows, columns, left, top, right, bottom, size, stride };
  }

  const draw = page.soon(() => {
    const picture = pictures.find((p) => p.id === choice.value) ?? pictures[0];
    const { context, width, height } = page.canvas(canvas);
    context.clearRect(0, 0, width, height);
    if (!picture || !page.view.zoom) return;
    const land = heights(picture);
    const angle = (turn.value * Math.PI) / 180;
    const lean = (tilt.value * Math.PI) / 180;
    const [sin, cos] = [Math.sin(angle), Math.cos(angle)];
    const longest = Math.max(land.rows, land.columns);
    const scale = Math.min(width * 0.66, height * 0.95) / longest;
    const rise = 0.34 * longest * Math.cos(lean);
    const corner = (r, c) => {
      const x = c - (land.columns - 1) / 2;
      const y = r - (land.rows - 1) / 2;
      const z = land.found[r][c] - 0.5;
      return [width / 2 + (x * cos - y * sin) * scale, height / 2 + ((x * sin + y * cos) * Math.sin(lean) - z * rise) * scale];
    };
    const points = land.found.map((line, r) => Array.from(line, (_, c) => corner(r, c)));
    // From the far edges to the near ones: nearer facets cover those behind.
    const downward = cos > 0 ? [...Array(Math.max(0, land.rows - 1)).keys()] : [...Array(Math.max(0, land.rows - 1)).keys()].reverse();
    const across = sin > 0 ? [...Array(Math.max(0, land.columns - 1)).keys()] : [...Array(Math.max(0, land.columns - 1)).keys()].reverse();
    const facet = (r, c) => {
      const [a, b, d, e] = [points[r][c], points[r][c + 1], points[r + 1][c + 1], points[r + 1][c]];
      const level = (land.found[r][c] + land.found[r + 1][c + 1]) / 2;
      const slope = land.found[r][c + 1] - land.found[r][c] + land.found[r + 1][c] - land.found[r][c];
      const shade = Math.max(0.6, Math.min(1.15, 1 - 1.2 * slope));
      const [red, green, blue] = page.pictures.heat(level).map((v) => Math.min(255, v * shade));
      context.fillStyle = context.strokeStyle = `rgb(${red | 0},${green | 0},${blue | 0})`;
      context.beginPath();
      context.moveTo(...a); context.lineTo(...b); context.lineTo(...d); context.lineTo(...e);
      context.closePath();
      context.fill();
      context.stroke();
    };
    context.lineWidth = 0.6;
    if (Math.abs(cos) > Math.abs(sin)) for (const r of downward) for (const c of across) facet(r, c);
    else for (const c of across) for (const r of downward) facet(r, c);
    page.landKey = `${picture.id} ${turn.value} ${tilt.value}`;
    const sampled = land.stride > 1 ? `, of which one sample in ${land.stride} along each side` : "";
    const averaged = land.size > 1 ? `, averaged over ${land.size}x${land.size} px${sampled}` : "";
    page.by("land-words").textContent = `${picture.label}: ${land.right - land.left}x${land.bottom - land.top} px from ${land.left},${land.top}${averaged}; dark is black, yellow is full scale.`;
  });
  // It follows the comparator only while it is in view.
  let seen = false;
  new IntersectionObserver((entries) => { seen = entries.at(-1).isIntersecting; if (seen) draw(); }).observe(canvas);
  page.landscapeDraw = () => { if (seen) draw(); };
  window.addEventListener("beforeprint", draw);

  let dragging = null;
  const turned = (by, up) => {
    turn.value = ((Number(turn.value) + by + 540) % 360) - 180;
    tilt.value = Number(tilt.value) + up;
    draw();
  };
  canvas.addEventListener("pointerdown", (event) => { dragging = [event.clientX, event.clientY]; canvas.setPointerCapture(event.pointerId); });
  canvas.addEventListener("pointermove", (event) => {
    if (!dragging) return;
    turned((event.clientX - dragging[0]) * -0.5, (event.clientY - dragging[1]) * 0.4);
    dragging = [event.clientX, event.clientY];
  });
  for (const name of ["pointerup", "pointercancel"]) canvas.addEventListener(name, () => { dragging = null; });
  canvas.addEventListener("keydown", (event) => {
    const moves = { ArrowLeft: [-6, 0], ArrowRight: [6, 0], ArrowUp: [0, 5], ArrowDown: [0, -5] };
    if (!moves[event.key]) return;
    turned(...moves[event.key]);
    event.preventDefault();
  });
  for (const input of [turn, tilt]) input.addEventListener("input", draw);
  choice.addEventListener("change", draw);
  window.addEventListener("resize", draw);
  page.onTheme.push(draw);
};
