// Behaviour of the pages: Alpine components (CSP build) and htmx. No page needs more.
import Alpine from "@alpinejs/csp";
import htmx from "htmx.org";
import { away, forget, say, wait } from "./answers.js";
import "./typed.js";

window.htmx = htmx;

const typing = (element) => element.closest?.("input, select, textarea, [contenteditable]") && element.type !== "checkbox";
const hotkey = (key) => {
  const all = [...document.querySelectorAll(`[data-hotkey="${CSS.escape(key)}"]`)];
  return all.find((element) => element.checkVisibility());
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
      if (!element.checkVisibility() || here.has(element.dataset.hotkey)) continue;
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
    else if (event.key === "[" || event.key === "]") this.beside(".rail li a", event.key === "]" ? 1 : -1);
    else if (event.key === "," || event.key === ".") this.beside("nav.views a", event.key === "." ? 1 : -1);
    else if (/^[0-9]$/.test(event.key)) document.querySelectorAll(".rail li a")[(Number(event.key) || 10) - 1]?.click();
    else if (away("page") && wait(event.key)) return;
    else if (event.key === "j" || event.key === "k") this.walk(event.key === "j" ? 1 : -1);
    else if (event.key === "J" || event.key === "K") this.group(event.key === "J" ? 1 : -1);
    else if (event.key === "x") this.pick();
    else if (event.key === "a" && this.take()) return event.preventDefault();
    else if ((event.key === "d" || event.key === "z") && this.takeAlone(document.activeElement.closest("tr[data-row]"), event.key)) return;
    else if (event.key === "z" && !hotkey("z")) this.pick();
    else if (!this.follow(event.key)) {
      wait(event.key);
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
  /** To the area, or the view of an area, before or after the one that is shown. */
  beside(css, step) {
    const links = [...document.querySelectorAll(css)];
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
  /** To the first row of the next or previous group: a kind of findings, a campaign of the plan. */
  group(step) {
    const sections = document.querySelectorAll("section.finding");
    const groups = [...(sections.length ? sections : document.querySelectorAll("table.rows tbody"))];
    const filled = groups.filter((each) => each.querySelector("tr[data-row] .name"));
    const here = filled.findIndex((each) => each.contains(document.activeElement));
    filled[Math.min(filled.length - 1, Math.max(0, here + step))]?.querySelector("tr[data-row] .name").focus();
  },
  /** Takes what is proposed on the focused row into the plan, where it is not open. */
  take() {
    const row = document.activeElement.closest("tr[data-row]:not(.open)");
    const button = row?.querySelector(".take");
    if (button) button.click();
    // What is opened, or on its way, is taken in its evidence.
    else return !away("drawer") && !hotkey("a")?.closest("#drawer") && this.takeAlone(row);
    return true;
  },
  /** The same where a form below the table takes what is selected: this row alone, whatever else is. */
  takeAlone(row, key = "A") {
    const pick = row?.querySelector("input.pick"), form = pick && document.getElementById(pick.getAttribute("form"));
    if (!form?.querySelector(`button[data-hotkey="${key}"]`)) return false;
    const own = form.cloneNode(true);
    for (const other of own.querySelectorAll("[name=all], [x-ref=others]")) other.remove();
    own.append(Object.assign(document.createElement("input"), { type: "hidden", name: pick.name, value: pick.value }));
    own.hidden = true;
    own.removeAttribute("id");
    own.setAttribute("x-ignore", "");
    document.body.append(own);
    own.requestSubmit(own.querySelector(`[data-hotkey="${key}"]`));
    return true;
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
    } else if (found.matches("input, select")) {
      found.focus();
      found.select?.();
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
    // The comparisons that the field's own list names; of those the first.
    const offered = picked.dataset.operators.split(" ");
    for (const option of this.$refs.operator.options) option.hidden = option.disabled = !offered.includes(option.value);
    this.$refs.operator.value = offered[0];
    this.$refs.unit.textContent = picked.dataset.unit;
    // Where rules are written a value is typed, and the list beside it offers the choices.
    if (this.$refs.list) return this.$refs.list.replaceChildren(...options.map((text) => new Option(text, text)));
    this.$refs.option.replaceChildren(...options.map((text) => new Option(text, text)));
    this.$refs.option.hidden = this.$refs.option.disabled = !choice;
    this.$refs.number.hidden = this.$refs.number.disabled = choice;
  },
  add() {
    this.$refs.add.click();
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
    this.$nextTick(() => this.show());
    const kept = JSON.parse(sessionStorage.getItem(this.shelf()) ?? "{}");
    // What was acted on is done with where the page says so; who came back without it finds the rows selected.
    if (!kept.rows || (kept.sent && document.querySelector(".notice:not(.cut)"))) return this.keep([]);
    this.others = new Set(kept.rows);
    for (const box of this.boxes()) box.checked = !box.disabled && this.others.delete(box.value);
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
    if (this.$refs.all) this.$refs.all.checked = true;
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
    const all = this.$refs.all?.checked;
    const chosen = this.chosen().length;
    this.count = all ? this.$refs.all.dataset.of : chosen;
    this.elsewhere = this.others.size && !all ? `, ${this.others.size} of them on other pages` : "";
    this.$refs.others?.replaceChildren(
      ...[...this.others].map((value) => Object.assign(document.createElement("input"), { type: "hidden", name: "rows", value })),
    );
    this.keep(this.chosen());
    if (!chosen && this.$refs.all) this.$refs.all.checked = false;
    if (this.$refs.bar) this.$refs.bar.hidden = !chosen;
  },
}));

/**
 * The target's mark on the price axis of the target solver. It follows the handle by the same power laws as the server's
 * figures; let go, the target is asked for.
 */
Alpine.data("solver", () => ({
  init() {
    this.told = JSON.parse(this.$root.dataset.moving);
    const now = this.$refs.mark.querySelector("line").getAttribute("x1"), { left, right, low, high } = this.told;
    this.$refs.handle.value = low + ((now - left) / (right - left)) * (high - low);
    this.$refs.handle.setAttribute("aria-valuetext", this.percent(Math.exp(this.$refs.handle.value)) + " %");
  },
  percent(factor) {
    return (100 * this.told.acos * factor).toFixed(1);
  },
  at(factor) {
    const { sales, acos, margin, e, p } = this.told;
    const sold = sales * factor ** (e / p), spent = sales * acos * factor ** ((e + p) / p);
    return { sales: sold, spend: spent, profit: (margin ?? 0) * sold - spent, acos: acos * factor };
  },
  move() {
    const { left, right, low, high, scales, price } = this.told, value = Number(this.$refs.handle.value);
    const factor = Math.exp(value), x = left + ((value - low) / (high - low)) * (right - left), found = this.at(factor);
    const written = (figure, digits) => figure.toLocaleString(document.documentElement.dataset.numbers || "en", { minimumFractionDigits: digits, maximumFractionDigits: digits });
    const mark = this.$refs.mark, [line, head] = mark.children;
    // Its words never lie over the lanes' names or beyond the edge.
    if (x < left + 60 || x > right - 60) {
      for (const words of mark.querySelectorAll("text")) {
        words.classList.toggle("left", x > right - 60);
        words.classList.toggle("right", x < left + 60);
      }
    }
    for (const end of ["x1", "x2"]) line.setAttribute(end, x);
    head.setAttribute("x", x + (head.classList.contains("left") ? -5 : 5));
    head.textContent = `target ${written(price * factor, 2)}`;
    for (const dot of mark.querySelectorAll("[data-lane]")) {
      const lane = dot.dataset.lane, y = scales[lane][0] + scales[lane][1] * found[lane], words = dot.nextElementSibling;
      dot.setAttribute("cx", x);
      dot.setAttribute("cy", y);
      words.setAttribute("x", x + (words.classList.contains("left") ? -8 : 8));
      words.setAttribute("y", y - 7);
      words.textContent = lane === "acos" ? written(100 * found.acos, 1) : written(found[lane], 0);
    }
    this.$refs.handle.setAttribute("aria-valuetext", this.percent(factor) + " %");
  },
  /** The target is asked for: whatever else was fixed gives way. */
  solve() {
    const form = this.$refs.form, asked = Object.assign(document.createElement("input"), { type: "hidden", name: "target_acos" });
    asked.value = this.percent(Math.exp(this.$refs.handle.value));
    for (const each of form.querySelectorAll("[name=target_acos],[name=at],[name=fixed]")) each.disabled = true;
    form.append(asked);
    this.submit();
  },
  /** A figure that was given for one that is fixed no more is not sent for another, and no target that nobody tried. */
  send(event) {
    const fixed = this.$refs.fixed;
    const stays = fixed.name === "at" ? event.target.name !== "fixed" : event.target === fixed || fixed.dataset.tried;
    if (!stays) fixed.disabled = true;
    this.submit();
  },
  submit() {
    for (const each of this.$refs.form.querySelectorAll("input")) if (!each.value) each.disabled = true;
    this.$refs.form.requestSubmit();
  },
}));

/** The rows of a preview: how many are still ticked, and a way to work the sums out again once any is not. */
Alpine.data("ticks", () => ({
  count() {
    const left = this.$root.querySelectorAll("input[name=take]");
    if (this.$refs.count) this.$refs.count.textContent = [...left].filter((box) => box.checked).length;
    if (this.$refs.again) this.$refs.again.hidden = false;
  },
}));

/**
 * The grid of hours: dragging across it, or arrows and Enter, draw a segment of the day. Rows are weekdays, above the first one
 * (row -1) all of them; of a report that tells no weekdays there is only that.
 */
const HOUR_WIDTH = 35, DAY_HEIGHT = 26;
Alpine.data("hourGrid", () => ({
  said: "",
  from: null,
  to: null,
  dragging: false,
  days() {
    return (this.$root.dataset.days || "").split(",").filter(Boolean);
  },
  placeAt(event) {
    const grid = this.$refs.grid, box = grid.getBoundingClientRect(), view = grid.viewBox.baseVal;
    const x = view.x + ((event.clientX - box.left) / box.width) * view.width;
    const y = view.y + ((event.clientY - box.top) / box.height) * view.height;
    return this.within({ hour: Math.floor(x / HOUR_WIDTH), row: Math.floor(y / DAY_HEIGHT) });
  },
  within({ hour, row }) {
    return { hour: Math.max(0, Math.min(23, hour)), row: Math.max(-1, Math.min(this.days().length - 1, row)) };
  },
  start(event) {
    this.from = this.to = this.placeAt(event);
    this.dragging = true;
    this.show();
  },
  drag(event) {
    if (!this.dragging) return;
    this.to = this.placeAt(event);
    this.show();
  },
  stop() {
    if (!this.dragging) return;
    this.dragging = false;
    if (this.from.hour !== this.to.hour || this.from.row !== this.to.row) this.draw();
  },
  cancel() {
    this.dragging = false;
  },
  key(event) {
    const step = { ArrowLeft: [-1, 0], ArrowRight: [1, 0], ArrowUp: [0, -1], ArrowDown: [0, 1] }[event.key];
    if (step) {
      this.to = this.to === null ? { hour: 0, row: -1 } : this.within({ hour: this.to.hour + step[0], row: this.to.row + step[1] });
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
  /** First and last hour (excluded), first and last row (excluded); no rows for all days. */
  ends() {
    const hours = [this.from.hour, this.to.hour], rows = [this.from.row, this.to.row];
    const every = Math.min(...rows) < 0 || (Math.min(...rows) === 0 && Math.max(...rows) === this.days().length - 1);
    return [Math.min(...hours), Math.max(...hours) + 1, ...(every ? [0, 0] : [Math.min(...rows), Math.max(...rows) + 1])];
  },
  show() {
    const [first, end, top, bottom] = this.ends(), marked = this.$refs.marked, rows = bottom - top || this.days().length || 1;
    marked.removeAttribute("hidden");
    marked.setAttribute("x", first * HOUR_WIDTH - 1);
    marked.setAttribute("width", (end - first) * HOUR_WIDTH);
    marked.setAttribute("y", top * DAY_HEIGHT - 2);
    marked.setAttribute("height", rows * DAY_HEIGHT + 2);
    const days = this.days().slice(top, bottom);
    this.said = `${first} to ${end} h${days.length ? `, ${days.join(", ")}` : ""}`;
  },
  draw() {
    const [first, end, top, bottom] = this.ends();
    const days = Array.from({ length: bottom - top }, (_, place) => top + place + 1).join("");
    const part = `${first}-${end}${days ? `@${days}` : ""}`, drawn = this.$root.dataset.drawn;
    const url = new URL(this.$root.dataset.href, location.href);
    url.searchParams.set("segments", drawn ? `${drawn},${part}` : part);
    location.assign(url);
  },
}));

// A file that is let go over a page does not take its place: Intake takes it wherever it falls, the other pages say so.
const brings = (event) => event.dataTransfer.types.includes("Files") && !event.target.closest?.("input[type=file]");
document.addEventListener("dragover", (event) => brings(event) && event.preventDefault());
document.addEventListener("drop", (event) => {
  if (!brings(event)) return;
  event.preventDefault();
  if (!document.querySelector("form.drop")) say("Reports are dropped under Intake.");
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
  async send() {
    const { files, busy } = this.$refs;
    if (!files.files.length) return;
    busy.hidden = false;
    // To somebody who is signed in no more the connection would end in the middle of a file.
    const here = await fetch(location.href, { method: "HEAD", redirect: "manual" }).catch(() => null);
    if (here?.type === "opaqueredirect") return location.reload();
    if (here) return this.$root.requestSubmit();
    busy.hidden = true;
    files.value = "";
    say("The application cannot be reached. Nothing was taken in: drop it again in a moment.");
  },
}));

/** Another kind, sheet or way of telling rows apart: the page comes again with the columns of that. */
Alpine.data("mapping", () => ({
  again() {
    const form = document.getElementById("again");
    const own = /^(csrf_token|mapped)$|(^|-)(column|value|mark)(-|$)|^r\d+-|^word-[^\d]/;
    for (const [name, value] of new FormData(this.$root)) {
      if (own.test(name) || !value && name !== "scope" && !/^(told|word|header|named)-|^separator$/.test(name) || form.elements[name]) continue;
      form.append(Object.assign(document.createElement("input"), { type: "hidden", name, value }));
    }
    form.requestSubmit();
  },
}));

// Closing the evidence asks the server for nothing: the drawer goes, the address follows where it is
// the page's own, and the row that was open has the focus.
document.addEventListener("click", (event) => {
  const close = event.target.closest("[data-close]");
  if (!close || event.ctrlKey || event.metaKey || event.shiftKey) return;
  event.preventDefault();
  document.getElementById("drawer").hidden = true;
  forget("drawer");
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
for (const key of window.earlyKeys()) document.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
