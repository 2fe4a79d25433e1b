// The decisions: made by key or click, undone, remembered, saved to a file or given to the server.
const decided = new Map(), past = []; // decisions by id; past: what was before each of them
let current = 0, saved = true, form = "", why = "", failed = "", finished = false;
const STORE = `review:${location.pathname}:${ITEMS.map(item => item.id).join(",").length}:${ITEMS[0]?.id ?? ""}`;
const CELLS = id => ({ id, ...decided.get(id) });

function remember() {
  try { localStorage.setItem(STORE, JSON.stringify([...decided])); } catch { /* a browser may keep nothing for files */ }
}
function recall() {
  if (DATA.serves) return;
  try { for (const [id, decision] of JSON.parse(localStorage.getItem(STORE) ?? "[]")) if (BY_ID.has(id)) decided.set(id, decision); } catch { /* as if nothing were kept */ }
  saved = !decided.size;
}

async function give(changes) { // to the server; false: it did not take them
  if (!DATA.serves) return true;
  try {
    const reply = await fetch("decisions", { method: "POST", headers: { "Content-Type": "application/json" }, body: JSON.stringify(changes.map(([id, decision]) => ({ id, ...(decision ?? { decision: "undo" }) }))) });
    const said = await reply.json();
    failed = reply.ok ? (said.faults ?? []).join("; ") : said.error ?? `The server says ${reply.status}.`;
    finished = said.left === 0;
  } catch { failed = "The server does not answer: `yellowtor review --serve` has ended, or ends."; }
  return !failed;
}
async function put(changes) { // changes: [id, decision or null]
  const before = changes.map(([id]) => [id, decided.get(id) ?? null]);
  if (!await give(changes)) { show(); return; }
  for (const [id, decision] of changes) decision ? decided.set(id, decision) : decided.delete(id);
  past.push([before, current]);
  saved = DATA.serves;
  why = ""; form = "";
  remember();
  next();
}
async function undo() {
  const last = past.pop();
  if (!last) return;
  if (!await give(last[0])) { past.push(last); show(); return; }
  for (const [id, decision] of last[0]) decision ? decided.set(id, decision) : decided.delete(id);
  saved = DATA.serves;
  remember();
  current = last[1];
  show();
}
function next() {
  const order = [...ITEMS.keys()].map(at => (current + 1 + at) % ITEMS.length);
  current = order.find(at => !decided.has(ITEMS[at].id)) ?? current;
  show();
}
const step = by => { current = (current + by + ITEMS.length) % ITEMS.length; form = ""; why = ""; show(); };
const withWhy = decision => why ? { ...decision, why } : decision;
const candidate = (item, letter) => {
  const offer = item.offers.find(one => one.letter === letter);
  return offer && withWhy({ decision: letter, [`${letter} at`]: `geo:${offer.at.join(",")}` });
};
function accept(letter) { const found = candidate(ITEMS[current], letter); if (found) put([[ITEMS[current].id, found]]); }
function acceptAll(letter) {
  const open = inGroup(ITEMS[current]).filter(item => !decided.has(item.id) || item === ITEMS[current]);
  const changes = open.map(item => [item.id, letter === "n" ? withWhy({ decision: "nothing" }) : candidate(item, letter)]).filter(change => change[1]);
  if (changes.length) put(changes);
}
const nothing = () => put([[ITEMS[current].id, withWhy({ decision: "nothing" })]]);
const place = at => put([[ITEMS[current].id, withWhy({ decision: "place", coordinates: `geo:${at.join(",")}`, at })]]);

function save() {
  if (DATA.serves) { if (ITEMS.every(item => decided.has(item.id)) && !finished) location.reload(); return; }
  const rows = ITEMS.filter(item => decided.has(item.id)).map(item => { const { at, ...cells } = CELLS(item.id); return { ...cells, key: item.key }; });
  const blob = new Blob([JSON.stringify(rows, null, 1)], { type: "application/json" });
  const link = Object.assign(document.createElement("a"), { href: URL.createObjectURL(blob), download: `decisions${DATA.part[0] > 1 ? `-${DATA.part[0]}` : ""}.json` });
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10000);
  saved = true;
  show();
}

const MARKS = { place: "●", address: "✎", nothing: "✕" };
const signOf = id => { const found = decided.get(id); return found ? MARKS[found.decision] ?? found.decision : ""; };
function saidOf(decision) {
  if (!decision) return "";
  const what = { place: `placed at ${decision.coordinates?.slice(4)}`, nothing: "nothing fits", address: "to be asked again with another address" }[decision.decision] ?? `candidate ${decision.decision}`;
  return `<p class="settled"><strong>Decided:</strong> ${escape(what)}${decision.why ? ` (${escape(decision.why)})` : ""}</p>`;
}
function reasonsHtml(item) { // what agrees is one line
  const agree = item.reasons.filter(reason => / agrees$/.test(reason)), others = item.reasons.filter(reason => !agree.includes(reason));
  if (agree.length) others.push(`agrees: ${agree.map(reason => reason.replace(/ agrees$/, "")).join(", ")}`);
  return others.length ? `<ul>${others.map(reason => `<li>${escape(reason)}</li>`).join("")}</ul>` : "";
}
function formHtml(item) {
  if (form === "type") return `<form><label for="typed">Coordinates</label><input id="typed" placeholder="47.5021, -28.2504" autocomplete="off"><span class="full fault" id="fault" role="alert"></span><div class="row"><button type="submit">Accept <kbd>Enter</kbd></button><button type="button" data-cancel>Cancel <kbd>Esc</kbd></button></div></form>`;
  if (form === "rewrite") return `<form>${DATA.parts.map(part => `<label for="new-${part}">${part}</label><input id="new-${part}" data-part="${part}" value="${escape(item.parts[part] ?? "")}" autocomplete="off">`).join("")}` +
    `<span class="full fault" id="fault" role="alert"></span><div class="row"><button type="submit">Ask again with this <kbd>Enter</kbd></button><button type="button" data-cancel>Cancel <kbd>Esc</kbd></button></div></form>`;
  if (form === "place") return `<form><span class="full">Drag the marker, click on the map, or use the arrow keys: <strong id="placing-at"></strong></span><div class="row"><button type="submit">Accept <kbd>Enter</kbd></button><button type="button" data-cancel>Cancel <kbd>Esc</kbd></button></div></form>`;
  return "";
}
function show() {
  const done = ITEMS.filter(item => decided.has(item.id)).length;
  const part = DATA.part[1] > 1 ? `, part ${DATA.part[0]} of ${DATA.part[1]}` : "";
  element("progress").textContent = ITEMS.length ? `${done} of ${ITEMS.length} settled${part}${saved || !done ? "" : " · not saved yet"}` : "Nothing is to be decided.";
  element("bar").value = ITEMS.length ? done / ITEMS.length : 1;
  element("undo").disabled = !past.length;
  element("save").innerHTML = finished ? "All is settled: run the job" : DATA.serves ? (done === ITEMS.length && ITEMS.length ? "Next part <kbd>s</kbd>" : "Each decision is stored at once") : `Save decisions <kbd>s</kbd>`;
  element("save").disabled = DATA.serves ? finished || done < ITEMS.length || !ITEMS.length : !done;
  const item = ITEMS[current];
  if (!item) { element("item").innerHTML = ""; if (!map._loaded) everywhere(); return; }
  const decision = decided.get(item.id), group = inGroup(item);
  element("item").innerHTML = `<div class="muted">${escape(groupOf(item).title)} · ${counted(group.length, "address", "addresses")} here</div>` +
    `<h2>${escape(item.asked)}</h2><p class="muted">${escape(item.key)}${item.records > 1 ? ` and ${counted(item.records - 1, "other record", "other records")}` : ""}</p>` +
    saidOf(decision) + (failed ? `<p class="fault" role="alert">${escape(failed)}</p>` : "") +
    reasonsHtml(item) +
    (item.offers.map(offer => offerHtml(offer, decision?.decision === offer.letter)).join("") || '<p class="muted">No service offers a candidate.</p>') +
    `<div class="row"><button data-do="n">Nothing fits <kbd>n</kbd></button><button data-do="m">Place marker <kbd>m</kbd></button><button data-do="t">Type coordinates <kbd>t</kbd></button><button data-do="r">Rewrite <kbd>r</kbd></button><button data-do="→">Skip <kbd>→</kbd></button></div>` +
    (group.length > 1 ? `<p class="row all">${item.offers.slice(0, 3).map(o => `<button data-do="${o.letter.toUpperCase()}">All ${o.letter} <kbd>${o.letter.toUpperCase()}</kbd></button>`).join("")}<button data-do="N">Nothing fits all <kbd>N</kbd></button></p>` : "") +
    formHtml(item) + `<label class="why">Why <input id="why" value="${escape(why)}" placeholder="optional; w" autocomplete="off"></label>`;
  showOnMap(item, decision);
  element("item").querySelector("form")?.scrollIntoView({ block: "end" });
  if (form === "place") { beginPlacing(item.offers[0]?.at); document.activeElement?.blur(); }
  else if (form) element("item").querySelector("form input")?.focus();
  list();
}
function list() {
  let group = null;
  element("list").innerHTML = ITEMS.map((item, at) => {
    const title = item.group === group ? "" : `<h3>${escape(groupOf(item).title)}</h3>`;
    group = item.group;
    return `${title}<button role="listitem" data-at="${at}" aria-current="${at === current}"><span class="settled">${escape(signOf(item.id))}</span><span class="name">${escape(item.asked)}</span><span class="muted">${item.records > 1 ? item.records : ""}</span></button>`;
  }).join("");
  element("list").querySelector('[aria-current="true"]')?.scrollIntoView({ block: "nearest" });
}
function fault(text) {
  element("fault").textContent = text;
  element("item").querySelector("form").scrollIntoView({ block: "end" });
}
function submit() {
  const item = ITEMS[current];
  if (form === "place") return void place(placeOfMarker());
  if (form === "type") {
    const at = readPlace(element("typed").value);
    if (!at) return void fault("That is not a latitude, longitude.");
    return void place(at);
  }
  const changed = Object.fromEntries([...document.querySelectorAll("[data-part]")].map(input => [`new ${input.dataset.part}`, input.value.trim()])
    .filter(([name, text]) => text !== (item.parts[name.slice(4)] ?? "")).map(([name, text]) => [name, text || "-"]));
  if (!Object.keys(changed).length) return void fault("Change at least one part.");
  put([[item.id, withWhy({ decision: "address", ...changed })]]);
}
function act(key) {
  failed = "";
  if (/^[a-e]$/.test(key)) return accept(key);
  if (/^[A-E]$/.test(key)) return acceptAll(key.toLowerCase());
  const acts = { n: nothing, N: () => acceptAll("n"), u: undo, s: save, m: () => open("place"), t: () => open("type"), r: () => open("rewrite"), w: () => element("why")?.focus(),
    "→": () => step(1), ArrowRight: () => step(1), "←": () => step(-1), ArrowLeft: () => step(-1), "?": help };
  acts[key]?.();
}
function open(name) { form = name; show(); }
function help() { const keys = element("keys"); keys.hidden = !keys.hidden; element("help").setAttribute("aria-expanded", String(!keys.hidden)); }

document.addEventListener("keydown", event => {
  const typing = event.target.matches("input");
  if (event.ctrlKey || event.metaKey || event.altKey) return;
  if (event.key === "Escape") { form = ""; event.target.blur?.(); show(); return; }
  if (placing && event.key.startsWith("Arrow")) { event.preventDefault(); movePlacing(event.key, event.shiftKey); return; }
  if (placing && event.key === "Enter" && !typing) { event.preventDefault(); submit(); return; }
  if (typing && event.key === "Enter" && event.target.id === "why") { event.target.blur(); return; }
  if (typing || (event.target.matches("button") && event.key === "Enter")) return;
  if (event.key.length === 1 || event.key.startsWith("Arrow")) { if ("wtr?".includes(event.key) || event.key.startsWith("Arrow")) event.preventDefault(); act(event.key); }
});
element("item").addEventListener("input", event => { if (event.target.id === "why") why = event.target.value; });
element("item").addEventListener("submit", event => { event.preventDefault(); submit(); });
element("item").addEventListener("click", event => {
  const letter = event.target.closest("[data-letter]"), act_ = event.target.closest("[data-do]");
  if (event.target.closest("[data-cancel]")) { form = ""; show(); } else if (letter) accept(letter.dataset.letter); else if (act_) act(act_.dataset.do);
});
element("list").addEventListener("click", event => { const row = event.target.closest("[data-at]"); if (row) { current = Number(row.dataset.at); form = ""; why = ""; show(); } });
element("save").addEventListener("click", save);
element("undo").addEventListener("click", undo);
element("help").addEventListener("click", help);
addEventListener("beforeunload", event => { if (!saved) event.preventDefault(); });
recall();
const linked = decodeURIComponent(location.hash.slice(1)); // review.html#KEY
current = Math.max(0, ITEMS.findIndex(item => linked ? item.key === linked : !decided.has(item.id)));
show();
