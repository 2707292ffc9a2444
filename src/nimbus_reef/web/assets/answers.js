// What a page has asked for and what comes of it: which answer has which place, what the address says then, and what is said where
// there is none. Whatever is asked for twice, or while something else is on its way, the last wish is the one that counts.
import htmx from "htmx.org";

// Parts of the page that are on their way: who asked for each of them last, and at which address; what is out, how many
// of it keys wait for, and which were pressed meanwhile.
const latest = new Map();
const from = new WeakMap();
const out = new Set();
/** Whether what was asked for last for a place is on its way. */
export const away = (id) => out.has(latest.get(id));
/** Nobody wants it there any more. */
export const forget = (id) => latest.delete(id);
let swapping = 0;
let waiting = [];
const settled = () => {
  swapping -= 1;
  if (swapping) return;
  const keys = waiting;
  waiting = [];
  for (const key of keys) document.dispatchEvent(new KeyboardEvent("keydown", { key, bubbles: true }));
};
/** Keeps a key until what is on its way is there; false where nothing is, or where it is none that does something. */
export const wait = (key) => swapping > 0 && key.length === 1 && waiting.push(key) > 0;
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
  xhr.addEventListener("error", () => unreached(requestConfig, target));
  xhr.addEventListener("load", () => document.querySelector("[data-unreached]")?.remove());
  // How far something is, and what stands in the rail, is nothing that a key waits for.
  if (requestConfig.elt.matches("#rail, [hx-trigger*=delay]")) return;
  swapping += 1;
  xhr.addEventListener("loadend", () => setTimeout(settled, htmx.config.defaultSettleDelay));
});

// A part of a page is swapped within that page; another page comes whole, with its own frame, drawer and scripts.
document.addEventListener("htmx:confirm", (event) => {
  const { elt, path, target, verb } = event.detail;
  if (target.id !== "page" || verb !== "get" || new URL(path, location.href).pathname === location.pathname) return;
  event.preventDefault();
  if (elt.matches("form")) elt.submit();
  else location.assign(path);
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

/** No answer at all: said until there is one; what a page asks for by itself is asked for again. */
const AGAIN_MS = 3_000;
function unreached({ elt, path, verb, triggeringEvent }, target) {
  const asks = verb === "get";
  say(asks ? "The application cannot be reached. Try again in a moment."
    : "The application cannot be reached. Load the page anew to see whether this was done.").dataset.unreached = "";
  if (!asks || triggeringEvent) return;
  const again = () => htmx.ajax("get", path, { source: elt, target }).catch(() => {});
  setTimeout(() => elt.isConnected && again(), AGAIN_MS);
}

/** A notice at the top of the page, in place of one that is there. */
export function say(words) {
  const notice = document.createElement("p");
  notice.className = "notice bad";
  notice.setAttribute("role", "alert");
  notice.textContent = words;
  const place = document.querySelector("#work, main");
  for (const older of place.querySelectorAll(":scope > .notice.bad[role=alert]")) older.remove();
  place.prepend(notice);
  return notice;
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
