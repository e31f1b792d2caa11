"use strict";
// Decodes the pictures of the page into samples, and into what a screen shows.
page.pictures = (() => {
  const known = new Map();

  /** The text of a part, from the page or from the folder next to it. */
  async function textOf(picture, part) {
    const name = `${picture.id}-${part}`;
    const inside = page.by(name);
    if (inside) return inside.textContent;
    if (!(name in magnetitePictures)) {
      await new Promise((done, failed) => {
        const script = page.make("script", { src: `${encodeURIComponent(page.data.folder)}/${name}.js` });
        script.onload = done;
        script.onerror = () => failed(new Error(`${page.data.folder}/${name}.js is missing: keep the folder next to the page`));
        document.head.append(script);
      });
    }
    return magnetitePictures[name];
  }

  async function pixelsOf(picture, part) {
    const image = new Image();
    image.src = `data:image/png;base64,${await textOf(picture, part)}`;
    await image.decode();
    const canvas = page.make("canvas", { width: image.naturalWidth, height: image.naturalHeight });
    const context = canvas.getContext("2d", { willReadFrequently: true, colorSpace: "srgb" });
    context.drawImage(image, 0, 0);
    return context.getImageData(0, 0, canvas.width, canvas.height);
  }

  async function load(picture) {
    const high = await pixelsOf(picture, "high");
    const low = picture.parts.includes("low") ? await pixelsOf(picture, "low") : null;
    const { width, height, channels } = picture;
    const values = new Float32Array(width * height * channels);
    const shown = new ImageData(width, height);
    const white = 255 / picture.full;
    for (let p = 0; p < width * height; p++) {
      for (let c = 0; c < channels; c++) {
        const raw = low ? 256 * high.data[4 * p + c] + low.data[4 * p + c] : high.data[4 * p + c];
        const value = picture.offset + picture.factor * raw;
        values[p * channels + c] = value;
        shown.data[4 * p + c] = value * white; // the array rounds by itself
      }
      if (channels === 1) shown.data[4 * p + 1] = shown.data[4 * p + 2] = shown.data[4 * p];
      shown.data[4 * p + 3] = 255;
    }
    return { ...picture, values, canvas: drawn(shown) };
  }

  /** A canvas that holds pixels. */
  function drawn(pixels) {
    const canvas = page.make("canvas", { width: pixels.width, height: pixels.height });
    canvas.getContext("2d").putImageData(pixels, 0, 0);
    return canvas;
  }

  const halved = new WeakMap();
  /** A canvas halved as often as a scale below 1 allows: large pictures are not reduced at every frame. */
  function reduced(canvas, scale) {
    if (!halved.has(canvas)) halved.set(canvas, [canvas]);
    const levels = halved.get(canvas);
    const wanted = Math.max(0, Math.floor(-Math.log2(scale)));
    while (levels.length <= wanted) {
      const last = levels[levels.length - 1];
      const next = page.make("canvas", { width: Math.ceil(last.width / 2), height: Math.ceil(last.height / 2) });
      const context = next.getContext("2d");
      context.imageSmoothingQuality = "high";
      context.drawImage(last, 0, 0, last.width / 2, last.height / 2);
      levels.push(next);
    }
    return { canvas: levels[wanted], share: 2 ** -wanted };
  }

  /** Colours from dark blue over green to yellow, even in lightness. */
  const VIRIDIS = [[68, 1, 84], [72, 40, 120], [62, 74, 137], [49, 104, 142], [38, 130, 142], [31, 158, 137], [53, 183, 121], [109, 205, 89], [180, 222, 44], [253, 231, 37]];
  function heat(share) {
    const place = Math.min(1, Math.max(0, share)) * (VIRIDIS.length - 1);
    const k = Math.min(VIRIDIS.length - 2, Math.floor(place));
    return VIRIDIS[k].map((v, c) => v + (VIRIDIS[k + 1][c] - v) * (place - k));
  }

  /** Second less first about mid-gray, amplified; of unlike depth each on its own full scale. */
  function difference(one, two, gain) {
    const out = new ImageData(one.width, one.height);
    const { channels } = one;
    for (let p = 0; p < one.width * one.height; p++) {
      for (let c = 0; c < 3; c++) {
        const at = p * channels + Math.min(c, channels - 1);
        out.data[4 * p + c] = 127.5 + (gain * 255 * (two.values[at] * one.full - one.values[at] * two.full)) / (one.full * two.full);
      }
      out.data[4 * p + 3] = 255;
    }
    return drawn(out);
  }

  /** Colours of shares, into the px of an image from a first one on. */
  function paint(out, at, share) {
    const place = Math.min(1, Math.max(0, share)) * (VIRIDIS.length - 1);
    const k = Math.min(VIRIDIS.length - 2, Math.floor(place));
    const [low, high, part] = [VIRIDIS[k], VIRIDIS[k + 1], place - k];
    for (let c = 0; c < 3; c++) out[4 * at + c] = low[c] + (high[c] - low[c]) * part;
    out[4 * at + 3] = 255;
  }

  /** The value that 1 % of all exceed; whole numbers are counted instead of sorted. */
  function nearlyLargest(values, largest) {
    const rank = Math.floor(0.99 * (values.length - 1));
    if (!values.every((value) => Number.isInteger(value) && value <= largest)) return values.slice().sort()[rank];
    const counts = new Uint32Array(largest + 1);
    for (const value of values) counts[value]++;
    let [below, value] = [0, 0];
    while (below + counts[value] <= rank) below += counts[value++];
    return value;
  }

  /** Absolute error at the depth of the reference, mean of the channels, as colours up to the error that 1 % exceed. */
  function errorMap(reference, test) {
    const { channels, values } = test;
    const { full, unit } = reference;
    const scale = full / test.full;
    const count = test.width * test.height;
    const sums = new Float32Array(count);
    for (let p = 0, at = 0; p < count; p++) {
      let sum = 0;
      for (let c = 0; c < channels; c++, at++) sum += Math.abs(scale * values[at] - reference.values[at]);
      sums[p] = sum;
    }
    const top = nearlyLargest(sums, Math.ceil(full) * channels) / channels || full / 255;
    const out = new ImageData(test.width, test.height);
    for (let p = 0; p < count; p++) paint(out.data, p, sums[p] / channels / top);
    return { canvas: drawn(out), words: `error: dark 0, yellow ${page.figure(top)} ${unit} and more` };
  }

  /** The SSIM map of the page, as colours; its windows' centres lie 5 px inside. */
  async function ssimMap(test) {
    const map = await pixelsOf(test, "ssim");
    const out = new ImageData(test.width, test.height);
    const [left, top] = [(test.width - map.width) >> 1, (test.height - map.height) >> 1];
    for (let y = 0; y < map.height; y++) {
      for (let x = 0; x < map.width; x++) {
        paint(out.data, (y + top) * test.width + x + left, 1 - map.data[4 * (y * map.width + x)] / 255);
      }
    }
    return { canvas: drawn(out), words: "SSIM: dark 1, yellow 0 and less" };
  }

  return {
    heat, difference, reduced,
    get: (picture) => { if (!known.has(picture.id)) known.set(picture.id, load(picture)); return known.get(picture.id); },
    map: (kind, reference, test) => {
      const key = `${kind} ${test.id}`;
      if (!known.has(key)) known.set(key, kind === "error" ? Promise.resolve(errorMap(reference, test)) : ssimMap(test));
      return known.get(key);
    },
    forget: (keep) => { for (const key of known.keys()) if (!keep.has(key.split(" ").pop())) known.delete(key); },
  };
})();
