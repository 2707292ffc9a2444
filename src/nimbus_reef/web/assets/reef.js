// Behaviour of the pages: Alpine components (CSP build) and htmx. No page needs more.
import Alpine from "@alpinejs/csp";
import htmx from "htmx.org";

window.htmx = htmx;

const typing = (element) => element.closest?.("input, select, textarea, [contenteditable]") && element.type !== "checkbox";
const hotkey = (key) => {
  const all = [...document.querySelectorAll(`[data-hotkey="${CSS.escape(key)}"]`)];
  return all.find((element) => element.offsetParent !== null);
};

/** What a thing means, for whoever has no pointer to hover with: its title on focus and on a tap. */
const tip = document.createElement("div");
tip.id = "tip";
tip.role = "tooltip";
tip.hidden = true;
const explain = (element) => {
  tip.hidden = !element;
  if (!element) return;
  if (!tip.isConnected) document.body.append(tip);
  tip.textContent = element.title;
  const place = element.getBoundingClientRect();
  tip.style.left = `${Math.max(6, Math.min(place.left, window.innerWidth - tip.offsetWidth - 6))}px`;
  tip.style.top = `${place.bottom + 5}px`;
};
const explained = (target) => {
  const element = target.closest?.("[title]");
  return element?.title && element.textContent.trim() !== element.title ? element : null;
};
document.addEventListener("focusin", (event) => explain(event.target.matches(":focus-visible") ? explained(event.target) : null));
document.addEventListener("focusout", () => explain(null));
document.addEventListener("pointerup", (event) => {
  if (event.pointerType === "touch") explain(explained(event.target));
});

// After a filter or a search one goes on in the table.
document.addEventListener("htmx:afterSwap", (event) => {
  if (event.detail.target.id === "page" && event.detail.requestConfig.elt.matches("form"))
    document.querySelector("#page .scroll")?.focus({ preventScroll: true });
});

/** A link to hand over: whoever comes to it has it selected. */
Alpine.data("copied", () => ({
  init() {
    this.$root.focus();
  },
  choose() {
    this.$root.select();
  },
}));

/** The printed report. */
Alpine.data("printing", () => ({
  print() {
    window.print();
  },
}));

// Parts of the page that are on their way: who asked for each of them last, and at which address; what is out, how many
// of it keys wait for, and which were pressed meanwhile.
const latest = new Map();
const from = new WeakMap();
const out = new Set();
const away = (id) => out.has(latest.get(id));
let swapping = 0;
let waiting = [];
const settled = () => {
  swapping -= 1;
  if (swapping) return;
  const keys = waiting;
  waiting = [];
  for (const key of keys) document.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
};
document.addEventListener("htmx:beforeRequest", (event) => {
  const { target, xhr, requestConfig } = event.detail;
  if (target.id) latest.set(target.id, xhr);
  from.set(xhr, location.href);
  out.add(xhr);
  // At the target itself, as what happens to an element that has left the page does not reach the document.
  const place = (answer) => answer.detail.xhr === xhr && arrive(answer);
  target.addEventListener("htmx:beforeSwap", place);
  xhr.addEventListener("loadend", () => {
    out.delete(xhr);
    target.removeEventListener("htmx:beforeSwap", place);
  });
  xhr.addEventListener("error", () => say(requestConfig.verb === "get" ? "The application cannot be reached. Try again in a moment."
    : "The application cannot be reached. Load the page anew to see whether this was done."));
  // What the page asks for by itself (progress, the rail) is nothing that a key waits for.
  if (requestConfig.triggeringEvent?.type === "load" && requestConfig.elt.id !== "judging") return;
  swapping += 1;
  xhr.addEventListener("loadend", () => setTimeout(settled, htmx.config.defaultSettleDelay));
});

/** Answers come in any order: the last one asked for has the place, wherever that is by now. */
function arrive(answer) {
  const { target, xhr, requestConfig } = answer.detail;
  const asks = requestConfig.verb === "get";
  const home = target.isConnected ? target : target.id && document.getElementById(target.id);
  if (target.id && latest.get(target.id) !== xhr) {
    // What it did is done all the same, and the strip says so.
    if (asks) return answer.preventDefault();
    answer.detail.swapOverride = "none";
  } else if (home) {
    answer.detail.target = home;
  } else if (asks) {
    return answer.preventDefault();
  }
  const part = requestConfig.elt.closest("[hx-select]")?.getAttribute("hx-select");
  if (xhr.getResponseHeader("X-Reef-Error")) refused(answer.detail);
  else if (part?.startsWith("#") && !xhr.responseText.includes(`id="${part.slice(1)}"`)) elsewhere(answer);
  else if (requestConfig.elt.getAttribute("hx-swap") === "none") answer.detail.serverResponse = shown(answer.detail.serverResponse);
}

/** A page without the part that was asked for, as where its figures are gone by now, is shown whole. */
function elsewhere(answer) {
  const { xhr, requestConfig } = answer.detail;
  answer.preventDefault();
  if (requestConfig.verb === "get") location.assign(xhr.responseURL);
  else location.reload();
}

/** An error answers a partial request with a whole page: it is shown as one. */
function refused(detail) {
  detail.shouldSwap = false;
  const told = new DOMParser().parseFromString(detail.xhr.responseText, "text/html");
  const message = told.querySelector("#error");
  say([...message.querySelectorAll("h1, p:not(.dim)")].map((part) => part.textContent.trim()).join(" "));
}

function say(words) {
  const notice = document.createElement("p");
  notice.className = "notice bad";
  notice.setAttribute("role", "alert");
  notice.textContent = words;
  for (const older of document.querySelectorAll("#work > .notice.bad[role=alert]")) older.remove();
  document.getElementById("work").prepend(notice);
}

/** Of cells that come by themselves, those of rows that the page shows. */
function shown(answer) {
  const told = document.createElement("template");
  told.innerHTML = answer;
  for (const each of told.content.querySelectorAll("template")) {
    if (!document.getElementById(each.content.firstElementChild.id)) each.remove();
  }
  return told.innerHTML;
}

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

// The address says what is shown: the page's answer leaves open what is, and evidence whose page has changed meanwhile leaves that.
document.addEventListener("htmx:beforeHistoryUpdate", (event) => {
  const { history, target, xhr } = event.detail;
  const asked = new URL(history.path, location.href), here = new URL(location.href);
  const evidence = target.id === "drawer";
  if (asked.pathname !== here.pathname || evidence && here.href === from.get(xhr)) return;
  const [made, opened] = evidence ? [here, asked] : [asked, here];
  const open = opened.searchParams.get("open");
  if (made.searchParams.get("open") === open) return;
  if (open) made.searchParams.set("open", open);
  else made.searchParams.delete("open");
  history.path = made.pathname + made.search;
});

/** Keys that work on every page; see _keys.html for what they do. */
Alpine.data("keys", () => ({
  init() {
    const press = (event) => this.$root.isConnected && this.press(event);
    document.addEventListener("keydown", press);
    document.addEventListener("click", (event) => {
      for (const open of document.querySelectorAll("details.part[open]")) {
        if (!open.contains(event.target)) open.open = false;
      }
    });
  },
  help() {
    const here = new Map();
    for (const element of document.querySelectorAll("[data-hotkey]")) {
      if (element.offsetParent === null || here.has(element.dataset.hotkey)) continue;
      const said = element.cloneNode(true);
      for (const each of said.querySelectorAll("kbd, .pop")) each.remove();
      const parts = [...said.querySelectorAll("*")].filter((each) => !each.children.length);
      const text = (parts.length ? parts : [said]).map((each) => each.textContent.trim()).join(" ");
      here.set(element.dataset.hotkey, element.ariaLabel || text || said.textContent.trim() || element.title);
    }
    this.$refs.here.replaceChildren(
      ...[...here].flatMap(([key, words]) => {
        const [term, told, cap] = ["dt", "dd", "kbd"].map((name) => document.createElement(name));
        cap.textContent = key;
        term.append(cap);
        told.textContent = words;
        return [term, told];
      }),
    );
    this.$refs.keys.showModal();
  },
  press(event) {
    if (event.ctrlKey || event.metaKey || event.altKey) return;
    // A key held down walks, but does nothing twice.
    if (event.repeat && event.key !== "j" && event.key !== "k") return;
    if (document.querySelector("dialog[open]")) return;
    if (event.key === "Escape") return this.escape();
    if (typing(event.target)) return;
    this.act(event);
  },
  /** What a key does. People type fast: one that finds nothing while a part is on its way, or would act on what that replaces, waits. */
  act(event) {
    if (event.key === "?") this.help();
    else if (event.key === "[" || event.key === "]") this.area(event.key === "]" ? 1 : -1);
    else if (away("page") && event.key.length === 1) waiting.push(event.key);
    else if (event.key === "j" || event.key === "k") this.walk(event.key === "j" ? 1 : -1);
    else if (event.key === "x") this.pick();
    else if (event.key === "a" && this.take()) return event.preventDefault();
    else if (event.key === "z" && !hotkey("z")) this.pick();
    else if (!this.follow(event.key)) {
      if (swapping && event.key.length === 1) waiting.push(event.key);
      return;
    }
    event.preventDefault();
  },
  escape() {
    const open = document.querySelector("details.part[open]");
    if (open) {
      open.open = false;
      open.querySelector("summary").focus();
    } else if (document.activeElement !== document.body && typing(document.activeElement)) {
      document.activeElement.blur();
    } else {
      (document.querySelector("#drawer:not([hidden]) [data-close]") ?? document.querySelector("[data-back]"))?.click();
    }
  },
  area(step) {
    const links = [...document.querySelectorAll(".rail li a")];
    const here = links.findIndex((link) => link.ariaCurrent === "page");
    links[(here + step + links.length) % links.length]?.click();
  },
  /** To the next or previous row, from the focused one or else the open one; Enter is the link's own. */
  walk(step) {
    const links = [...document.querySelectorAll("tr[data-row] .name")];
    if (!links.length) return;
    const focused = links.indexOf(document.activeElement);
    const open = links.findIndex((link) => link.closest("tr").classList.contains("open"));
    const from = focused >= 0 ? focused : open;
    const next = links[Math.min(links.length - 1, Math.max(0, from + step))];
    next.focus({ preventScroll: true });
    next.closest("tr").scrollIntoView({ block: "nearest" });
  },
  /** Takes what is proposed on the focused row into the plan, where it is not open. */
  take() {
    const row = document.activeElement.closest("tr[data-row]:not(.open)");
    const button = row?.querySelector(".take");
    button?.click();
    return Boolean(button);
  },
  /** Selects the focused row, or else the open one. */
  pick() {
    const row = document.activeElement.closest("tr[data-row]") ?? document.querySelector("tr[data-row].open");
    row?.querySelector("input.pick")?.click();
  },
  follow(key) {
    const found = hotkey(key);
    if (!found || away("drawer") && found.closest("#drawer")) return false;
    if (found.matches("details")) {
      found.open = true;
      found.querySelector("select, input:not([type=hidden]), a")?.focus();
    } else if (found.matches("input")) {
      found.focus();
      found.select();
    } else {
      found.click();
    }
    return true;
  },
}));

/** The filter form: what a metric can be compared with. */
Alpine.data("filterForm", () => ({
  choose() {
    const picked = this.$refs.field.selectedOptions[0];
    const options = picked.dataset.options ? picked.dataset.options.split("|") : [];
    const choice = options.length > 0;
    for (const option of this.$refs.operator.options) {
      const own = option.value === "is" || option.value === "not";
      option.hidden = option.disabled = own !== choice;
    }
    this.$refs.operator.value = choice ? "is" : "gt";
    this.$refs.option.replaceChildren(...options.map((text) => new Option(text, text)));
    this.$refs.option.hidden = this.$refs.option.disabled = !choice;
    this.$refs.number.hidden = this.$refs.number.disabled = choice;
    this.$refs.unit.textContent = picked.dataset.unit;
  },
}));

/**
 * Selecting rows: how many are, and the bar that says what can be done with them. What is selected on other pages of the same rows
 * (`data-shelf` names them) is kept until it was acted on, and goes along with the form.
 */
Alpine.data("picker", () => ({
  count: 0,
  elsewhere: "",
  others: new Set(),
  init() {
    const kept = JSON.parse(sessionStorage.getItem(this.shelf()) ?? "{}");
    // What was acted on is done with where the page says so; who came back without it finds the rows selected.
    if (!kept.rows || (kept.sent && document.querySelector(".notice:not(.cut)"))) return this.keep([]);
    this.others = new Set(kept.rows);
    for (const box of this.boxes()) box.checked = !box.disabled && this.others.delete(box.value);
    this.$nextTick(() => this.show());
  },
  shelf() {
    return `selected ${this.$root.dataset.shelf}`;
  },
  keep(rows, sent = false) {
    if (!this.$root.dataset.shelf) return;
    if (rows.length) sessionStorage.setItem(this.shelf(), JSON.stringify({ rows, sent }));
    else sessionStorage.removeItem(this.shelf());
  },
  chosen() {
    return [...this.others, ...this.boxes().filter((box) => box.checked).map((box) => box.value)];
  },
  sent() {
    this.keep(this.chosen(), true);
  },
  boxes() {
    return [...this.$root.querySelectorAll("tbody input.pick")];
  },
  /** All rows that are filtered, those of the page ticked for the eye. */
  everything() {
    for (const box of this.boxes()) box.checked = true;
    this.$refs.all.checked = true;
    this.show();
  },
  act() {
    this.$refs.act.click();
  },
  changed(event) {
    if (event.target.closest(".pop")) return;
    if (event.target === this.$refs.page) for (const box of this.boxes()) box.checked = event.target.checked;
    this.show();
  },
  cleared() {
    if (this.$refs.page) this.$refs.page.checked = false;
    this.others = new Set();
    // The boxes are reset after this event.
    setTimeout(() => this.show());
  },
  show() {
    this.count = this.chosen().length;
    this.elsewhere = this.others.size ? `, ${this.others.size} of them on other pages` : "";
    this.$refs.others?.replaceChildren(
      ...[...this.others].map((value) => Object.assign(document.createElement("input"), { type: "hidden", name: "rows", value })),
    );
    this.keep(this.chosen());
    if (!this.count && this.$refs.all) this.$refs.all.checked = false;
    if (this.$refs.bar) this.$refs.bar.hidden = !this.count;
  },
}));

/** The grid of hours: dragging across it, or arrows and Enter, draw a segment of the day. */
Alpine.data("hourGrid", () => ({
  said: "",
  from: null,
  to: null,
  dragging: false,
  hourAt(event) {
    const grid = this.$refs.grid, box = grid.getBoundingClientRect(), view = grid.viewBox.baseVal;
    const x = view.x + ((event.clientX - box.left) / box.width) * view.width;
    return Math.max(0, Math.min(23, Math.floor(x / 35)));
  },
  start(event) {
    this.from = this.to = this.hourAt(event);
    this.dragging = true;
    this.show();
  },
  drag(event) {
    if (!this.dragging) return;
    this.to = this.hourAt(event);
    this.show();
  },
  stop() {
    if (!this.dragging) return;
    this.dragging = false;
    if (this.from !== this.to) this.draw();
  },
  cancel() {
    this.dragging = false;
  },
  key(event) {
    const step = { ArrowLeft: -1, ArrowRight: 1 }[event.key];
    if (step) {
      const next = Math.max(0, Math.min(23, (this.to ?? -step) + step));
      this.to = this.to === null ? 0 : next;
      if (!event.shiftKey || this.from === null) this.from = this.to;
      this.show();
    } else if (event.key === "Enter" && this.to !== null) {
      this.draw();
    } else {
      return;
    }
    event.preventDefault();
    event.stopPropagation();
  },
  ends() {
    return [Math.min(this.from, this.to), Math.max(this.from, this.to) + 1];
  },
  show() {
    const [first, end] = this.ends();
    const marked = this.$refs.marked;
    marked.removeAttribute("hidden");
    marked.setAttribute("x", first * 35 - 1);
    marked.setAttribute("width", (end - first) * 35);
    this.said = `${first} to ${end} h`;
  },
  draw() {
    const [first, end] = this.ends();
    const drawn = this.$root.dataset.drawn;
    const url = new URL(this.$root.dataset.href, location.href);
    url.searchParams.set("segments", drawn ? `${drawn},${first}-${end}` : `${first}-${end}`);
    location.assign(url);
  },
}));

// A file that is let go over a page does not take its place: Intake takes it wherever it falls, the other pages say so.
const brings = (event) => event.dataTransfer.types.includes("Files") && !event.target.closest?.("input[type=file]");
document.addEventListener("dragover", (event) => brings(event) && event.preventDefault());
document.addEventListener("drop", (event) => {
  if (!brings(event)) return;
  event.preventDefault();
  if (!document.querySelector("form.drop") && document.getElementById("work")) say("Reports are dropped under Intake.");
});

/** Dropping and choosing files; sending starts at once. */
Alpine.data("dropZone", () => ({
  hovering: false,
  look: {
    [":class"]() {
      return { over: this.hovering };
    },
  },
  init() {
    document.addEventListener("dragover", (event) => (this.hovering = brings(event)));
    document.addEventListener("dragleave", (event) => (this.hovering = this.hovering && event.relatedTarget !== null));
    document.addEventListener("drop", (event) => brings(event) && this.drop(event));
  },
  open() {
    this.$refs.files.click();
  },
  drop(event) {
    this.hovering = false;
    this.$refs.files.files = event.dataTransfer.files;
    this.send();
  },
  send() {
    if (!this.$refs.files.files.length) return;
    this.$refs.busy.hidden = false;
    this.$root.requestSubmit();
  },
}));

/** Another kind, sheet or way of telling rows apart: the page comes again with the columns of that. */
Alpine.data("mapping", () => ({
  again() {
    const form = document.getElementById("again");
    const own = /^(csrf_token|mapped)$|(^|-)(column|value|mark)(-|$)|^r\d+-|^word-[^\d]/;
    for (const [name, value] of new FormData(this.$root)) {
      if (own.test(name) || !value && name !== "scope" && !/^(told|word)-/.test(name) || form.elements[name]) continue;
      form.append(Object.assign(document.createElement("input"), { type: "hidden", name, value }));
    }
    form.requestSubmit();
  },
}));

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

// Closing the evidence asks the server for nothing: the drawer goes, the address follows where it is
// the page's own, and the row that was open has the focus.
document.addEventListener("click", (event) => {
  const close = event.target.closest("[data-close]");
  if (!close || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  document.getElementById("drawer").hidden = true;
  latest.delete("drawer");
  if (close.pathname === location.pathname) history.pushState({ htmx: true }, "", close.href);
  const open = document.querySelector("tr[data-row].open");
  open?.classList.remove("open");
  open?.querySelector(".name")?.focus({ preventScroll: true });
});
// The row whose drawer is open is marked without asking the server again.
for (const change of ["htmx:afterSwap", "htmx:pushedIntoHistory"]) {
  document.addEventListener(change, () => {
    const open = new URLSearchParams(location.search).get("open");
    for (const row of document.querySelectorAll("tr[data-row]")) {
      row.classList.toggle("open", row.dataset.row === open);
    }
  });
}

Alpine.start();
if (document.querySelector(TYPED)) {
  retype(JSON.parse(sessionStorage.getItem("typed") ?? "[]"));
  sessionStorage.removeItem("typed");
  keepTyped();
}
for (const key of window.earlyKeys()) document.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
