// Before the rest has loaded: keys pressed meanwhile are kept, so that none is lost; reef.js does them.
const early = [];
const keep = (event) => {
  const typed = event.target.closest?.("input, select, textarea, [contenteditable]");
  if (typed || event.repeat || event.ctrlKey || event.metaKey || event.altKey || (event.key.length > 1 && event.key !== "Escape")) return;
  early.push(event.key);
};
document.addEventListener("keydown", keep);
window.earlyKeys = () => {
  document.removeEventListener("keydown", keep);
  return early.splice(0);
};
