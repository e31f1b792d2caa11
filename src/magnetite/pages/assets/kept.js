"use strict";
// The choices made on the page, kept in its address: they survive a reload and can be sent as a link.
page.kept = (() => {
  const START = "#view?";
  const state = new URLSearchParams(location.hash.startsWith(START) ? location.hash.slice(START.length) : "");

  function write() {
    const text = state.toString();
    history.replaceState(null, "", text ? START + text : "#");
  }

  function set(name, value) {
    if (value === null || value === undefined || value === "") state.delete(name);
    else state.set(name, String(value));
    write();
  }

  /** Keep a select, a box or a slider: take over what the address holds, and follow changes. */
  function control(element, name) {
    const box = element.type === "checkbox";
    const value = state.get(name)?.trim() ?? null;
    if (value !== null) {
      if (box) element.checked = value === "yes";
      else if (element.tagName !== "SELECT" || [...element.options].some((one) => one.value === value)) element.value = value;
    }
    const first = box ? element.defaultChecked : element.tagName === "SELECT" ? null : element.defaultValue;
    const follow = () => set(name, box ? (element.checked ? "yes" : "no") : element.value === first ? null : element.value || " ");
    element.addEventListener(element.tagName === "SELECT" || box ? "change" : "input", follow);
  }

  // A section that was gone to is part of the state.
  window.addEventListener("hashchange", () => {
    const name = location.hash.slice(1);
    if (name && page.by(name)) set("section", name);
  });
  /** Scroll to the section of the address, once the page has its full height. */
  const arrive = () => page.by(state.get("section") ?? "")?.scrollIntoView();
  return { get: (name) => state.get(name), set, control, arrive };
})();
