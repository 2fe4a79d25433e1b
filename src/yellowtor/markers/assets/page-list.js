// The list beside the map, the legend, the search, and the paper.
const ROW_PX = 56, SPARE = 10;
const list = document.getElementById("list");
const find = document.getElementById("find");
const hiddenOutcomes = new Set(), hiddenLooks = new Set();
const rank = Object.fromEntries(DATA.outcomes.map((outcome, n) => [outcome, n]));
const sorted = [...everything].sort((a, b) => rank[get("$outcome", a)] - rank[get("$outcome", b)] || a - b);
const searched = ["$key", "$name", "$asked", "$matched", ...DATA.searched];
let texts = null; // what the search looks at, made when it is first used
let rows = sorted, current = null;

const inner = document.createElement("div");
inner.className = "rows";
list.append(inner);
const tall = document.createElement("div");
list.append(tall);

function drawRows() {
  const first = Math.max(0, Math.floor(list.scrollTop / ROW_PX) - SPARE);
  const last = Math.min(rows.length, Math.ceil((list.scrollTop + list.clientHeight) / ROW_PX) + SPARE);
  const focused = document.activeElement?.dataset?.at;
  inner.style.transform = `translateY(${first * ROW_PX}px)`;
  inner.innerHTML = rows.slice(first, last).map((at, n) => `<div role="listitem" aria-posinset="${first + n + 1}" aria-setsize="${rows.length}">` +
    `<button class="row" data-at="${at}" aria-current="${at === current}" title="${escape(get("$reasons", at).split("\n").join("; "))}">${drawing(lookOf(at))}` +
    `<span><span class="name">${escape(nameOf(at))}</span><span class="where">${escape(get("$asked", at))}</span></span></button></div>`).join("") ||
    `<div class="none">${escape(TEXT.none)}</div>`;
  if (focused !== undefined) inner.querySelector(`[data-at="${focused}"]`)?.focus({ preventScroll: true });
}
function chosen(at) {
  current = at;
  const n = rows.indexOf(at), top = n * ROW_PX;
  if (n >= 0 && (top < list.scrollTop || top + ROW_PX > list.scrollTop + list.clientHeight)) list.scrollTop = top - list.clientHeight / 3;
  drawRows();
}
function fill() {
  const words = find.value.toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length) texts ??= everything.map(at => searched.map(name => get(name, at)).join(" ").toLowerCase());
  rows = sorted.filter(at => !hiddenOutcomes.has(get("$outcome", at)) && !hiddenLooks.has(lookOf(at).name) && words.every(word => texts[at].includes(word)));
  tall.style.height = `${rows.length * ROW_PX}px`;
  list.scrollTop = 0;
  drawRows();
  showMarkers(rows);
  document.getElementById("found").textContent = rows.length < DATA.count ? say("found", rows.length) : "";
}
let waiting = 0;
find.addEventListener("input", () => { clearTimeout(waiting); waiting = setTimeout(fill, DATA.count > 5000 ? 250 : 0); });
list.addEventListener("scroll", drawRows, { passive: true });
addEventListener("resize", drawRows);
list.addEventListener("click", event => { const row = event.target.closest(".row"); if (row) go(Number(row.dataset.at)); });
list.addEventListener("keydown", event => {
  const step = { ArrowDown: 1, ArrowUp: -1 }[event.key], row = event.target.closest(".row");
  if (!step || !row) return;
  event.preventDefault();
  const n = rows.indexOf(Number(row.dataset.at)) + step;
  if (n < 0 || n >= rows.length) return;
  const top = n * ROW_PX;
  if (top < list.scrollTop) list.scrollTop = top;
  if (top + ROW_PX > list.scrollTop + list.clientHeight) list.scrollTop = top + ROW_PX - list.clientHeight;
  drawRows();
  inner.querySelector(`[data-at="${rows[n]}"]`)?.focus({ preventScroll: true });
});

const legend = document.getElementById("legend");
function entries(names, countOf, lookFor, hidden, labelOf, meaningOf) {
  const box = document.createElement("div");
  for (const name of names) {
    const count = countOf(name);
    if (!count) continue;
    const button = document.createElement("button");
    button.innerHTML = `${drawing(lookFor(name))}<span>${escape(labelOf(name))}</span><b>${count.toLocaleString(VIEW.language)}</b>`;
    button.title = meaningOf(name);
    button.setAttribute("aria-pressed", "true");
    button.onclick = () => { hidden.has(name) ? hidden.delete(name) : hidden.add(name); button.setAttribute("aria-pressed", !hidden.has(name)); fill(); };
    box.append(button);
  }
  if (box.children.length) legend.append(box);
}
function counted(nameOfRecord) {
  const counts = new Map();
  for (const at of everything) counts.set(nameOfRecord(at), (counts.get(nameOfRecord(at)) ?? 0) + 1);
  return name => counts.get(name) ?? 0;
}
const usual = outcome => ({ colour: DATA.marks[outcome].colour, shape: Object.keys(DATA.paths).find(shape => DATA.paths[shape] === DATA.marks[outcome].path) });
if (DATA.legend.length) {
  const looks = new Map(DATA.legend.map(entry => [entry.name, entry.look]));
  entries(looks.keys(), counted(at => lookOf(at).name), name => looks.get(name), hiddenLooks, name => name, name => name);
}
entries(Object.keys(DATA.marks), counted(at => get("$outcome", at)), usual, hiddenOutcomes, outcome => TEXT[outcome], outcome => DATA.meanings[outcome]);

let onScreen = null; // what the map shows when it is not printed
// On paper: the map, the legend, and every record that is shown.
function toPaper() {
  const columns = DATA.shown;
  const head = ["", TEXT.key, TEXT.name, TEXT.asked, TEXT.outcome, TEXT.position, ...columns].map(text => `<th scope="col">${escape(text)}</th>`).join("");
  const named = everything.some(at => get("$name", at));
  const body = rows.map(at => `<tr><td>${drawing(lookOf(at))}</td><td class="short">${escape(get("$key", at))}</td>${named ? `<td>${escape(get("$name", at))}</td>` : ""}` +
    `<td>${escape(get("$asked", at))}</td><td class="short">${escape(TEXT[get("$outcome", at)])}</td><td>${hasPlace(at) ? placeOf(at).join(", ") : escape(TEXT.no_position)}</td>` +
    columns.map(name => `<td>${escape(get(name, at))}</td>`).join("") + "</tr>").join("");
  document.getElementById("paper").innerHTML = `<table><thead><tr>${named ? head : head.replace(`<th scope="col">${escape(TEXT.name)}</th>`, "")}</tr></thead><tbody>${body}</tbody></table>`;
  onScreen ??= [map.getCenter(), map.getZoom()];
  map.invalidateSize({ animate: false });
  if (!VIEW.centre) fit();
}
function toScreen() {
  document.getElementById("paper").innerHTML = "";
  map.invalidateSize({ animate: false });
  if (onScreen) map.setView(...onScreen, { animate: false });
  onScreen = null;
}
addEventListener("beforeprint", toPaper);
addEventListener("afterprint", toScreen);

fill();
begin();
layer.addTo(map);
let wanted = location.hash.slice(1);
try { wanted = decodeURIComponent(wanted); } catch { /* it is the key as it stands */ }
const at = wanted ? everything.find(n => get("$key", n) === wanted) : undefined;
if (at !== undefined) go(at);
document.documentElement.dataset.ready = Math.round(performance.now());
