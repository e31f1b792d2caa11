"use strict";
// Theme, then all parts; each gets a task of its own, so that none holds up the page.
(() => {
  const themes = ["automatic", "light", "dark"];
  const button = page.by("theme");
  let now = 0;
  button.addEventListener("click", () => {
    now = (now + 1) % themes.length;
    if (now) document.documentElement.dataset.theme = themes[now];
    else delete document.documentElement.dataset.theme;
    button.textContent = `Theme: ${themes[now]}`;
    for (const work of page.onTheme) work();
  });
  window.matchMedia("(prefers-color-scheme: dark)").addEventListener("change", () => { for (const work of page.onTheme) work(); });
  window.addEventListener("beforeprint", () => {
    document.documentElement.dataset.theme = "light";
    // What is folded is printed as well, and folded again.
    for (const one of document.querySelectorAll("details:not([open])")) { one.open = true; one.dataset.folded = "yes"; }
    for (const work of page.onTheme) work();
  });
  window.addEventListener("afterprint", () => {
    for (const one of document.querySelectorAll("details[data-folded]")) { one.open = false; delete one.dataset.folded; }
    if (now) document.documentElement.dataset.theme = themes[now];
    else delete document.documentElement.dataset.theme;
    for (const work of page.onTheme) work();
  });
  const parts = [page.table, page.curves, page.guarantee, page.landscape, page.compare];
  const next = () => {
    const part = parts.shift();
    if (!part) { page.kept.arrive(); document.documentElement.dataset.ready = "yes"; return; }
    const more = part(); // what a part leaves for later
    if (more) parts.unshift(more);
    setTimeout(next, 0);
  };
  setTimeout(next, 0);
})();
