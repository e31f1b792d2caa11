"use strict";
// A blind test: one phase after the other, every answer kept at once, the keyboard alone suffices.

const CARD = 85.6; // width of a bank card, mm (ISO/IEC 7810, ID-1)
const store = `magnetite-test-${data.test}`;
const at = (id) => document.getElementById(id);
const { adaptive } = data;
let state = null; // progress of the rater: see fresh()
let card = 324; // width of the card's outline, CSS px
let flicker = null;
let handlers = {};

const fresh = (rater) => {
  const seed = crypto.getRandomValues(new Uint32Array(1))[0];
  return { rater, seed, training: 0, position: 0, trials: [], pixel: null, distance: null, started: new Date().toISOString() };
};

// Random numbers from a seed, so that a page that is opened again goes on in the same order.
const generator = (seed) => () => {
  seed = (seed + 0x6d2b79f5) >>> 0;
  let t = Math.imul(seed ^ (seed >>> 15), seed | 1);
  t ^= t + Math.imul(t ^ (t >>> 7), t | 61);
  return ((t ^ (t >>> 14)) >>> 0) / 4294967296;
};

const shuffled = (list, random) => {
  const order = list.slice();
  for (let i = order.length - 1; i > 0; i -= 1) {
    const j = Math.floor(random() * (i + 1));
    [order[i], order[j]] = [order[j], order[i]];
  }
  return order;
};

// Trials in the order of this rater. Each pair is shown as often one way round as the other.
const trialsOf = (seed) => {
  const random = generator(seed);
  if (data.design === "rating") {
    const rounds = Array.from({ length: data.repeats }, () => shuffled(Object.keys(data.pictures).sort(), random));
    return rounds.flat().map((name) => ({ first: name, second: "" }));
  }
  if (data.design === "pairs") {
    const rounds = [];
    const turned = data.pairs.map(() => random() < 0.5);
    for (let round = 0; round < data.repeats; round += 1) {
      const pairs = data.pairs.map(([a, b], k) => (turned[k] !== (round % 2 === 1) ? [b, a] : [a, b]));
      rounds.push(shuffled(pairs, random));
    }
    return rounds.flat().map(([first, second]) => ({ first, second }));
  }
  // Thresholds: which series comes next is drawn here, its level when it is shown.
  const all = data.series.flatMap((_, k) => Array(data.repeats).fill(k));
  return shuffled(all, random).map((series) => ({ series, side: random() < 0.5 }));
};

// The level that tells most: nearest to the threshold's posterior mean, a little above it.
const nextLevel = (levels, shown, right) => {
  const logs = levels.map(Math.log);
  const low = logs[0] - adaptive.margin;
  const step = (logs[logs.length - 1] + adaptive.margin - low) / (adaptive.grid - 1);
  const grid = Array.from({ length: adaptive.grid }, (_, k) => low + k * step);
  const weights = grid.map((t) =>
    shown.reduce((sum, level, k) => {
      const rising = 1 / (1 + Math.exp(-adaptive.slope * (logs[level] - t)));
      const chance = adaptive.guess + (1 - adaptive.guess - adaptive.lapse) * rising;
      return sum + Math.log(right[k] ? chance : 1 - chance);
    }, 0));
  const most = Math.max(...weights);
  const posterior = weights.map((w) => Math.exp(w - most));
  const total = posterior.reduce((a, b) => a + b, 0);
  const mean = posterior.reduce((sum, p, k) => sum + p * grid[k], 0) / total;
  const wanted = mean + adaptive.tellsMost / adaptive.slope;
  return logs.reduce((best, log, k) => (Math.abs(log - wanted) < Math.abs(logs[best] - wanted) ? k : best), 0);
};

const adapted = (trial) => {
  const series = data.series[trial.series];
  const shown = [];
  const right = [];
  state.trials.forEach((one) => {
    const name = series.names.includes(one.first) ? one.first : one.second;
    if (series.names.includes(name)) {
      shown.push(series.names.indexOf(name));
      right.push(one.answer === (name === one.first ? "left" : "right"));
    }
  });
  const level = series.names[nextLevel(series.levels, shown, right)];
  return trial.side ? { first: level, second: series.reference } : { first: series.reference, second: level };
};

const keep = () => {
  try {
    localStorage.setItem(store, JSON.stringify(state));
  } catch {
    at("progress").textContent = "This browser keeps nothing: do not close the page before the end.";
  }
};

const kept = () => {
  try {
    return JSON.parse(localStorage.getItem(store));
  } catch {
    return null;
  }
};

const record = () => ({
  kind: "magnetite answers", version: 1, test: data.test, design: data.design, rater: state.rater,
  simulated: false, complete: state.position >= trials().length, started: state.started, seed: state.seed,
  screen: {
    pixel_mm: state.pixel, distance_mm: state.distance, device_pixel_ratio: window.devicePixelRatio,
    width: window.screen.width, height: window.screen.height, magnification: data.magnification,
    background: "#6b6b6b",
  },
  pictures: data.pictures, trials: state.trials,
});

const save = () => {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([JSON.stringify(record(), null, 1)], { type: "application/json" }));
  link.download = `answers-${state.rater.replace(/[^\w-]+/g, "_")}.json`;
  link.click();
};

let order = null;
const trials = () => {
  order = order || trialsOf(state.seed);
  return order;
};

// A screen: its words, and the keys that lead on.
const screen = (title, paragraphs, keys) => {
  clearInterval(flicker);
  flicker = null;
  at("title").textContent = title;
  at("title").hidden = !title;
  at("words").replaceChildren(...paragraphs.map((text) => Object.assign(document.createElement("p"), { textContent: text })));
  ["naming", "card", "stage"].forEach((id) => { at(id).hidden = true; });
  at("question").textContent = "";
  at("progress").textContent = "";
  offer(keys);
};

const offer = (keys) => {
  handlers = Object.fromEntries(keys.map(([key, , act]) => [key, act]));
  at("keys").replaceChildren(...keys.filter(([, words]) => words).map(([key, words, act]) => {
    const button = document.createElement("button");
    button.type = "button";
    const cap = Object.assign(document.createElement("kbd"), { textContent: NAMES[key] || key });
    button.append(cap, ` ${words}`);
    button.addEventListener("click", act);
    return button;
  }));
};
const NAMES = { ArrowLeft: "←", ArrowRight: "→", ArrowDown: "↓", Enter: "Enter" };

document.addEventListener("keydown", (event) => {
  const act = handlers[event.key.length === 1 ? event.key.toLowerCase() : event.key];
  const typing = !at("naming").hidden && event.target.id === "name" && event.key !== "Enter";
  // A key that is held down counts once, but for the size of the card.
  const held = event.repeat && (at("card").hidden || event.key === "Enter");
  if (!act || typing || held || event.ctrlKey || event.metaKey || event.altKey) return;
  event.preventDefault();
  act();
});

const welcome = () => {
  const before = kept();
  if (before && before.position < trialsCount(before)) {
    state = before;
    screen("Go on with the test", [`${before.rater} has given ${before.trials.length} answers on this computer.`], [
      ["Enter", "go on", () => (state.pixel === null ? measure() : begin())],
      ["n", "start again, as another person", () => { localStorage.removeItem(store); state = null; order = null; naming(); }],
    ]);
    return;
  }
  naming();
};
const trialsCount = (one) => trialsOf(one.seed).length;

const naming = () => {
  screen("Blind test of pictures", [
    "You will compare or grade pictures. The page does not tell how each was made, and no answer is wrong.",
    "Sit in a dim room without reflections on the screen, at full brightness, with the browser's zoom at 100 %.",
  ], [["Enter", "go on", () => {
    const name = at("name").value.trim();
    if (!name) {
      at("question").textContent = "Type a name or number first, please.";
      return;
    }
    state = fresh(name);
    order = null;
    keep();
    measure();
  }]]);
  at("naming").hidden = false;
  at("name").focus();
};

const measure = () => {
  const resize = (by) => () => {
    card = Math.max(120, Math.min(1200, card + by));
    at("card").style.width = `${card}px`;
    at("card").style.height = `${(card * 53.98) / CARD}px`;
  };
  screen("Size of the screen", [
    "Hold a bank card to the screen, and make the outline as wide as the card.",
    "Without a card, go on: the viewing distance is then not known.",
  ], [
    ["ArrowLeft", "narrower", resize(-2)], ["ArrowRight", "wider", resize(2)],
    ["Enter", "as wide as the card", () => {
      state.pixel = CARD / (card * window.devicePixelRatio);
      // As many px of a picture in a degree as the test states.
      const size = state.pixel * data.magnification;
      state.distance = size / (2 * Math.tan(Math.PI / 360 / data.pixelsPerDegree));
      keep();
      instruct();
    }],
    ["n", "no card", () => { state.pixel = 0; keep(); instruct(); }],
  ]);
  at("card").hidden = false;
  resize(0)();
};

const instruct = () => {
  const distance = state.distance
    ? `Sit ${(state.distance / 10).toFixed(0)} cm from the screen: a degree of your field of view then holds ${data.pixelsPerDegree} px of a picture.`
    : "Sit at the distance that you work at.";
  const asked = {
    pairs: ["Two pictures are shown side by side. Choose the one that you find better."
      + (data.ties ? " If you see no difference, say so." : " If you see no difference, guess.")],
    rating: ["One picture is shown at a time. Grade how much its impairment disturbs you, from 5 to 1."],
    threshold: ["Two pictures are shown: one is as it was, one was changed, more or less visibly. Choose the changed one. If you see no difference, guess."],
  }[data.design];
  const more = data.design === "rating" ? [] : ["With F both are shown at one position in turn, and side by side again."];
  screen("Instructions", [...asked, ...more, distance,
    `Each px of a picture is shown as ${data.magnification === 1 ? "one px" : `${data.magnification}x${data.magnification} px`} of the screen, on the gray of the background.`,
    data.training.length ? "First some pictures to practise on; these answers do not count." : "",
  ].filter(Boolean), [["Enter", "begin", begin]]);
};

const begin = () => {
  if (state.training < data.training.length) {
    practise();
  } else if (state.position >= trials().length) {
    finish();
  } else {
    show();
  }
};

const practise = () => {
  const name = data.training[state.training];
  const reference = data.references[data.content[name]];
  const pair = data.design === "rating" ? { first: name, second: "" } : { first: name, second: reference };
  present(pair, "Practice", () => {
    state.training += 1;
    keep();
    if (state.training < data.training.length) {
      practise();
    } else {
      screen("End of the practice", ["From now on every answer counts."], [["Enter", "go on", begin]]);
    }
  });
};

const show = () => {
  let trial = trials()[state.position];
  if (data.design === "threshold") trial = adapted(trial);
  const total = trials().length;
  present(trial, `${state.position + 1} of ${total}`, (answer, seconds) => {
    state.trials.push({ first: trial.first, second: trial.second, answer, seconds });
    state.position += 1;
    keep();
    if (state.position >= total) {
      finish();
    } else if (state.position % data.pause === 0) {
      screen("A break", [`${state.position} of ${total} answers are given. Look away from the screen for a moment.`], [
        ["Enter", "go on", show],
      ]);
    } else {
      show();
    }
  });
};

const figure = (name, words) => {
  const made = document.createElement("figure");
  const image = document.createElement("img");
  const [width, height] = data.sizes[name];
  image.src = sources[name];
  image.alt = words;
  // Whole screen px for each px of the picture.
  image.style.width = `${(width * data.magnification) / window.devicePixelRatio}px`;
  image.style.height = `${(height * data.magnification) / window.devicePixelRatio}px`;
  made.append(image);
  if (words) made.append(Object.assign(document.createElement("figcaption"), { textContent: words }));
  return made;
};

const present = (trial, progress, done) => {
  const began = performance.now();
  const answered = (answer) => () => done(answer, Math.round(performance.now() - began) / 1000);
  const rating = data.design === "rating";
  const keys = rating
    ? Object.entries(data.grades).sort().reverse().map(([grade, words]) => [grade, words, answered(grade)])
    : [["ArrowLeft", "left", answered("left")], ["ArrowRight", "right", answered("right")]];
  if (!rating && data.ties && data.design === "pairs") keys.push(["ArrowDown", "no difference", answered("tie")]);
  if (!rating) keys.push(["f", "at one position in turn", alternate]);
  screen("", [], keys);
  const stage = at("stage");
  stage.hidden = false;
  stage.className = "";
  const reference = data.references[data.content[trial.first]];
  const shown = rating ? [figure(trial.first, "")] : [figure(trial.first, "left"), figure(trial.second, "right")];
  if (data.withReference && data.design === "pairs" && reference !== undefined) shown.splice(1, 0, figure(reference, "reference"));
  stage.replaceChildren(...shown);
  at("question").textContent = {
    pairs: "Which picture is better?", rating: "How do you grade this picture?", threshold: "Which picture was changed?",
  }[data.design];
  at("progress").textContent = progress;
};

// Both pictures at one position, half a second each; the reference, if it is shown, stays away.
const alternate = () => {
  const stage = at("stage");
  const figures = [...stage.children];
  if (flicker) {
    clearInterval(flicker);
    flicker = null;
    stage.className = "";
    figures.forEach((one) => one.classList.remove("off"));
    return;
  }
  const pair = [figures[0], figures[figures.length - 1]];
  let turn = 0;
  const next = () => {
    figures.forEach((one) => one.classList.toggle("off", one !== pair[turn]));
    turn = 1 - turn;
  };
  stage.className = "flicker";
  next();
  flicker = setInterval(next, 500);
};

const finish = () => {
  screen("The end", ["Thank you. Your answers are saved as a file: send it to the person who asked you."], [
    ["s", "save the answers again", save],
    ["n", "another person", () => { localStorage.removeItem(store); state = null; order = null; naming(); }],
  ]);
  save();
};

welcome();
document.documentElement.dataset.ready = "yes";
