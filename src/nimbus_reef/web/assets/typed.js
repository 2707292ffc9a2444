// What was typed is not lost: values on the plan, long forms; and what was sent is sent once.
import htmx from "htmx.org";

// A value that was typed is kept when its field is left, not only on Enter. What one leaves it by, a link or a button, follows
// when it is kept, so that no page or sheet is made without it; what is typed meanwhile stays, and is kept next.
const TYPED = "input[name=new_value]";
let keeping = false;
let pressed = false;
let follows = null;
const unkept = () => [...document.querySelectorAll(TYPED)].find((field) => field !== document.activeElement
  && field.value !== field.defaultValue && field.value !== field.dataset.refused);
/** Types again what a new page has come over; where it is a question, the page after it. */
const retype = (typed) => {
  for (const [id, text, ...selected] of typed) {
    const field = document.getElementById(id);
    if (!field) continue;
    field.value = text;
    field.setSelectionRange(...selected);
  }
  const gone = typed.filter(([id]) => !document.getElementById(id));
  if (gone.length) sessionStorage.setItem("typed", JSON.stringify(gone));
};
const keepTyped = () => keeping || unkept()?.form.requestSubmit();
document.addEventListener("focusout", (event) => {
  // A press is over first: an answer that came before would take from under it what it presses.
  if (event.target.matches(TYPED) && !pressed) setTimeout(keepTyped);
});
document.addEventListener("pointerdown", () => { pressed = true; }, true);
for (const end of ["pointerup", "pointercancel"]) {
  document.addEventListener(end, () => {
    pressed = false;
    setTimeout(keepTyped);
  }, true);
}
document.addEventListener("click", (event) => {
  const doer = event.target.closest("a, button, summary, label, input");
  if (!doer || !keeping && !unkept() || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  event.stopImmediatePropagation();
  follows = doer;
}, true);
document.addEventListener("htmx:beforeRequest", (event) => {
  const { elt, target, xhr } = event.detail;
  const field = elt.matches("form") && elt.querySelector(TYPED);
  if (!field) return;
  const value = field.value, asked = elt.action;
  let others = [];
  keeping = true;
  const gather = () => {
    const typed = [...document.querySelectorAll(TYPED)].filter((each) => each.value !== each.defaultValue || each.matches(":focus"));
    others = typed.filter((each) => each !== field || each.value !== value)
      .map(({ id, value: text, selectionStart, selectionEnd }) => [id, text, selectionStart, selectionEnd]);
  };
  target.addEventListener("htmx:beforeSwap", gather, { once: true });
  xhr.addEventListener("loadend", () => {
    retype(others);
    // Kept, the answer is the plan's; a question or what is wrong with it comes from where it was sent.
    if (xhr.status !== 200 || xhr.responseURL === asked) {
      field.dataset.refused = value;
      follows = null;
    }
    // Its forms are htmx's only when it has settled.
    setTimeout(() => {
      keeping = false;
      keepTyped();
      if (!keeping) follow();
    }, htmx.config.defaultSettleDelay);
  });
});
function follow() {
  const doer = follows;
  follows = null;
  if (!doer) return;
  const alike = (each) => doer.id ? each.id === doer.id : each.outerHTML === doer.outerHTML;
  const same = doer.isConnected ? doer : [...document.querySelectorAll(doer.tagName)].find(alike);
  same?.click();
}

// What a question came over is gone where one goes elsewhere from it.
const over = sessionStorage.getItem("typed");
sessionStorage.removeItem("typed");
window.addEventListener("load", () => {
  retype(JSON.parse(over ?? "[]"));
  keepTyped();
});

// What was sent is not sent again by a second click or a key held down: until its page is there, or gone wrong for that long.
const ANSWERED_MS = 10_000;
const sent = new Map();
document.addEventListener("submit", (event) => {
  const form = event.target;
  if (form.method !== "post" || event.defaultPrevented) return;
  if (performance.now() - (sent.get(form) ?? -ANSWERED_MS) < ANSWERED_MS) event.preventDefault();
  else sent.set(form, performance.now());
});
window.addEventListener("pageshow", () => sent.clear());

// Long forms are not left with something typed in them that was never sent, but on purpose.
const changed = (field) => {
  if (field.type === "hidden") return false;
  if (field.options) return field.selectedIndex !== Math.max(0, [...field.options].findIndex((each) => each.defaultSelected));
  return "defaultChecked" in field && field.checked !== field.defaultChecked || field.value !== field.defaultValue;
};
window.addEventListener("beforeunload", (event) => {
  const typed = (form) => !sent.has(form) && [...form.querySelectorAll("input, select, textarea")].some(changed);
  if ([...document.querySelectorAll("form[data-long]")].some(typed)) event.preventDefault();
});
