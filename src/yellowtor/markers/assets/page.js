"use strict";
const escape = text => text == null ? "" : String(text).replace(/[&<>"']/g, c => `&#${c.charCodeAt(0)};`);
const drawing = outcome => `<svg class="mark" viewBox="0 0 20 20" aria-hidden="true"><path d="${DATA.marks[outcome].path}" fill="${DATA.marks[outcome].colour}"/></svg>`;

const map = L.map("map", { zoomControl: false, preferCanvas: false, zoomSnap: 0.25, attributionControl: false });
L.control.attribution({ prefix: "" }).addTo(map).addAttribution(escape(ATTRIBUTION));
L.control.zoom({ position: "topright" }).addTo(map);
L.control.scale({ imperial: false }).addTo(map);
const style = getComputedStyle(document.documentElement);
const tone = name => style.getPropertyValue(name).trim();
for (const layer of DATA.under)
  L.geoJSON(layer, { interactive: false, pointToLayer: (_, at) => L.circleMarker(at, { radius: 2 }), style: feature =>
    /Polygon/.test(feature.geometry.type)
      ? { color: tone("--coast"), weight: 1, fillColor: tone("--land"), fillOpacity: 1 }
      : { color: tone("--road"), weight: 2 } }).addTo(map);

function aligned(record) {
  const word = ([text, explained]) => explained >= 0.97 ? escape(text) :
    `<mark class="${explained < 0.7 ? "open" : "near"}" title="${explained < 0.7 ? "not explained" : "explained in part"}">${escape(text)}</mark>`;
  const row = p => `<tr><th scope="row">${escape(p.part)}</th><td>${p.asked.map(word).join(" ") || "–"}</td>` +
    `<td>${escape(p.answered) || "–"}</td><td>${escape(p.agreement)}</td></tr>`;
  return record.aligned.length ? `<table><thead><tr><th></th><th scope="col">asked</th><th scope="col">answered</th><th></th></tr></thead>` +
    `<tbody>${record.aligned.map(row).join("")}</tbody></table>` : "";
}

function popup(record) {
  const line = (label, value) => value ? `<dt>${label}</dt><dd>${value}</dd>` : "";
  const sure = record.confidence === null ? "" :
    `<span class="meter"><i style="width:${record.confidence * 100}%"></i></span>${record.confidence.toFixed(2)} <small>(${escape(record.basis)})</small>`;
  const reasons = record.reasons.length ? `<ul>${record.reasons.map(r => `<li>${escape(r)}</li>`).join("")}</ul>` : "";
  return `<div class="popup" data-key="${escape(record.key)}"><h2>${drawing(record.outcome)}${escape(record.name || record.key)}</h2><dl>` +
    line("Outcome", escape(record.outcome)) + line("Asked", escape(record.asked)) + line("Matched", escape(record.matched)) +
    line("Level", escape(record.level)) + line("Confidence", sure) + line("Reasons", reasons) +
    `</dl>${aligned(record)}${ATTRIBUTION ? `<p class="credit">${escape(ATTRIBUTION)}</p>` : ""}</div>`;
}

const order = DATA.order;
const markers = new Map();
const group = L.featureGroup().addTo(map);
for (const record of DATA.records) {
  if (record.lat === null) continue;
  const icon = L.divIcon({ className: `marker ${record.outcome}`, html: drawing(record.outcome), iconSize: [20, 20] });
  const marker = L.marker([record.lat, record.lon], { icon, title: record.name || record.key, keyboard: true,
    zIndexOffset: record.outcome === order[0] ? 1000 : 0 });
  marker.bindPopup(() => popup(record), { maxWidth: 400 })
    .on("popupopen", () => { chosen(record.key); marker.getElement()?.classList.add("open"); })
    .on("popupclose", () => marker.getElement()?.classList.remove("open"));
  markers.set(record.key, marker.addTo(group));
}
if (markers.size) map.fitBounds(group.getBounds().pad(0.08)); else map.setView([0, 0], 2);

const list = document.getElementById("list");
const hidden = new Set();
const sorted = [...DATA.records].sort((a, b) => order.indexOf(a.outcome) - order.indexOf(b.outcome));
function chosen(key) {
  for (const button of list.querySelectorAll("button")) button.setAttribute("aria-current", button.dataset.key === key);
  list.querySelector("[aria-current=true]")?.scrollIntoView({ block: "nearest" });
}
function pick(key) {
  const marker = markers.get(key);
  chosen(key);
  if (!marker) return map.closePopup();
  map.setView(marker.getLatLng(), Math.max(map.getZoom(), 15), { animate: false });
  marker.openPopup();
}
function fill() {
  const words = document.getElementById("find").value.toLowerCase().split(/\s+/).filter(Boolean);
  const rows = sorted.filter(r => !hidden.has(r.outcome) &&
    words.every(w => `${r.key} ${r.name} ${r.asked} ${r.matched}`.toLowerCase().includes(w)));
  list.innerHTML = rows.map(r => `<li><button data-key="${escape(r.key)}" title="${escape(r.reasons.join("; "))}">${drawing(r.outcome)}<span>` +
    `<span class="name">${escape(r.name || r.key)}</span><span class="where">${escape(r.asked)}</span></span></button></li>`).join("") ||
    `<li class="none">No record is like that.</li>`;
  const shown = new Set(rows.map(r => r.key));
  for (const [key, marker] of markers) shown.has(key) ? group.addLayer(marker) : group.removeLayer(marker);
}
list.addEventListener("click", event => { const at = event.target.closest("button"); if (at) pick(at.dataset.key); });
document.getElementById("find").addEventListener("input", fill);

const legend = document.getElementById("legend");
for (const outcome of Object.keys(DATA.marks)) {
  const count = DATA.records.filter(r => r.outcome === outcome).length;
  if (!count) continue;
  const button = document.createElement("button");
  button.innerHTML = `${drawing(outcome)}<span>${outcome}</span><b>${count}</b>`;
  button.title = DATA.marks[outcome].meaning;
  button.setAttribute("aria-pressed", "true");
  button.onclick = () => { hidden.has(outcome) ? hidden.delete(outcome) : hidden.add(outcome);
    button.setAttribute("aria-pressed", !hidden.has(outcome)); fill(); };
  legend.append(button);
}
fill();
const wanted = decodeURIComponent(location.hash.slice(1));
if (wanted) pick(wanted);
