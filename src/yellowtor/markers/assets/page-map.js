// The map: its layers, its markers, and its tools.
const MANY = 1000; // markers that a map without clusters has one by one; more are drawn on a canvas
const map = L.map("map", { zoomControl: false, zoomSnap: 0.25, attributionControl: false, scrollWheelZoom: VIEW.scroll_wheel, maxZoom: VIEW.most_zoom,
  worldCopyJump: true });
const credits = L.control.attribution({ prefix: "" }).addTo(map);
if (DATA.attribution) credits.addAttribution(escape(DATA.attribution));
if (VIEW.tiles) L.tileLayer(VIEW.tiles, { attribution: escape(VIEW.tile_credit), maxZoom: VIEW.most_zoom, referrerPolicy: "strict-origin-when-cross-origin" }).addTo(map);
L.control.scale({ imperial: false }).addTo(map);
const theme = getComputedStyle(document.documentElement);
const tone = name => theme.getPropertyValue(name).trim();
const under = DATA.under.map(one => L.geoJSON(one, { interactive: false, pointToLayer: (_, at) => L.circleMarker(at, { radius: 2 }), style: drawn }).addTo(map));
function drawn(feature) {
  return /Polygon/.test(feature.geometry.type) ? { color: tone("--coast"), weight: 1, fillColor: tone("--land"), fillOpacity: VIEW.tiles ? 0 : 1 }
    : { color: tone("--road"), weight: 2 };
}
for (const query of ["(prefers-color-scheme: dark)", "print"])
  matchMedia(query).addEventListener("change", () => under.forEach(one => one.setStyle(drawn)));

const placed = everything.filter(hasPlace);
const isGrid = VIEW.cluster && placed.length > FEW, isDots = !VIEW.cluster && placed.length > MANY;
const icons = new Map();
function iconOf(at) {
  const number = get("$look", at);
  if (!icons.has(number)) {
    const look = lookOf(at), size = look.size_px;
    icons.set(number, L.divIcon({ className: "marker", html: drawing(look), iconSize: [size, size],
      iconAnchor: look.shape === "drop" && !look.icon ? [size / 2, size] : [size / 2, size / 2] }));
  }
  return icons.get(number);
}
function markerOf(at) {
  const marker = L.marker(placeOf(at), { icon: iconOf(at), title: VIEW.label === "never" ? nameOf(at) : "", alt: nameOf(at),
    zIndexOffset: get("$outcome", at) === "doubtful" ? 1000 : 0 });
  if (VIEW.label !== "never") marker.bindTooltip(escape(nameOf(at)), { permanent: VIEW.label === "always", direction: "top", offset: [0, -8] });
  return marker;
}

// Around the number of a cluster: how many of its markers have which colour.
const ROUND = 2 * Math.PI * 9;
function ring(members) {
  if (members.length > MANY) return "";
  const counts = new Map();
  for (const at of members) counts.set(lookOf(at).colour, (counts.get(lookOf(at).colour) ?? 0) + 1);
  let begin = 0;
  const arcs = [...counts].map(([colour, some]) => {
    const arc = `<circle cx="10" cy="10" r="9" stroke="${escape(colour)}" stroke-dasharray="${some / members.length * ROUND} ${ROUND}" stroke-dashoffset="${-begin * ROUND}"/>`;
    begin += some / members.length;
    return arc;
  });
  return `<svg viewBox="0 0 20 20" aria-hidden="true">${arcs.join("")}</svg>`;
}
function clusterIcon(members) {
  const count = members.length, size = 30 + 6 * Math.min(4, Math.floor(Math.log10(count)));
  return L.divIcon({ className: "cluster", html: `${ring(members)}<span aria-label="${escape(say("cluster", count))}">${count.toLocaleString(VIEW.language)}</span>`, iconSize: [size, size] });
}

// Few markers: each is one of Leaflet's, and the plug-in groups them.
const markers = new Map(), numbers = new WeakMap(); // by the record's number, and the other way round
let layer;
if (isGrid) layer = new Grid();
else if (isDots) layer = new Dots();
else {
  for (const at of placed) { const marker = markerOf(at); markers.set(at, marker); numbers.set(marker, at); }
  layer = VIEW.cluster ? L.markerClusterGroup({ maxClusterRadius: 46, showCoverageOnHover: false, spiderLegPolylineOptions: { weight: 1.5, color: "#5b6b77" },
    iconCreateFunction: cluster => clusterIcon(cluster.getAllChildMarkers().map(marker => numbers.get(marker))) }) : L.featureGroup();
  layer.on("click keypress", event => {
    if (event.type === "keypress" && event.originalEvent.key !== "Enter") return;
    const at = numbers.get(event.layer ?? event.propagatedFrom);
    if (at !== undefined) { openCard(at); chosen(at); }
  });
}
let shown = [];
function showMarkers(some) {
  shown = some.filter(hasPlace);
  if (isGrid || isDots) layer.show(shown);
  else {
    layer.clearLayers();
    const wanted = shown.map(at => markers.get(at));
    VIEW.cluster ? layer.addLayers(wanted) : wanted.forEach(marker => layer.addLayer(marker));
  }
}

const extras = L.layerGroup().addTo(map); // circles and lines of what is not too much
for (const at of Object.keys(DATA.circles).slice(0, MANY).map(Number))
  if (hasPlace(at)) L.circle(placeOf(at), { radius: DATA.circles[at], color: lookOf(at).colour, weight: 1, fillOpacity: 0.12, interactive: false }).addTo(extras);
for (const at of Object.keys(DATA.before).slice(0, MANY).map(Number))
  if (hasPlace(at)) {
    L.polyline([DATA.before[at], placeOf(at)], { color: lookOf(at).colour, weight: 2, dashArray: "4 4", interactive: false }).addTo(extras);
    L.circleMarker(DATA.before[at], { radius: 4, color: lookOf(at).colour, weight: 2, fill: false }).bindTooltip(escape(TEXT.moved)).addTo(extras);
  }

function fit() {
  const some = L.latLngBounds(shown.map(placeOf));
  for (const at of shown) if (DATA.before[at]) some.extend(DATA.before[at]);
  if (some.isValid()) map.fitBounds(some.pad(0.08), { maxZoom: 17, animate: false }); else map.setView([0, 0], 2, { animate: false });
}
function begin() {
  if (VIEW.centre) map.setView(VIEW.centre, VIEW.zoom ?? 12); else fit();
  if (!VIEW.centre && VIEW.zoom !== null) map.setZoom(VIEW.zoom, { animate: false });
}

const card = L.popup({ maxWidth: 400, autoPanPadding: [20, 20] });
card.on("remove", () => { document.querySelector(".marker.open")?.classList.remove("open"); });
function openCard(at, marker = markers.get(at)) {
  card.options.offset = L.point(0, isDots ? 0 : -lookOf(at).size_px / 3);
  card.setLatLng(placeOf(at)).setContent(popup(at)).openOn(map);
  document.querySelector(".marker.open")?.classList.remove("open");
  marker?.getElement()?.classList.add("open");
}
function listed(members, where) { // the records of a group that no zoom can part
  const rows = members.slice(0, LISTED).map(at => `<button class="near" data-go="${at}"><span>${escape(nameOf(at))}</span><span>${escape(get("$key", at))}</span></button>`);
  card.options.offset = L.point(0, 0);
  card.setLatLng(where).setContent(`<div class="popup"><h2>${escape(say("records", members.length))}</h2>${rows.join("")}</div>`).openOn(map);
}
function go(at) {
  chosen(at);
  if (!hasPlace(at)) { map.closePopup(); return; }
  const marker = markers.get(at), near = () => map.setView(placeOf(at), Math.max(map.getZoom(), 16), { animate: false });
  if (marker && VIEW.cluster && layer.hasLayer(marker)) { near(); layer.zoomToShowLayer(marker, () => openCard(at)); } else { near(); openCard(at); }
}
map.getContainer().addEventListener("click", event => {
  const copied = event.target.closest("[data-copy]"), next = event.target.closest("[data-go]");
  if (copied) copy(copied);
  if (next) go(Number(next.dataset.go));
});

// Tools
const tool = (label, drawn, act) => {
  const button = Object.assign(document.createElement("button"), { type: "button", title: label, innerHTML: drawn });
  button.setAttribute("aria-label", label);
  button.addEventListener("click", () => act(button));
  return button;
};
const line = d => `<svg viewBox="0 0 20 20" aria-hidden="true"><path d="${d}"/></svg>`;
let measuring = null;
function measure(button) {
  if (measuring) {
    measuring.layer.remove();
    measuring = null;
  } else measuring = { layer: L.layerGroup().addTo(map), points: [] };
  button.setAttribute("aria-pressed", Boolean(measuring));
  map.getContainer().classList.toggle("measuring", Boolean(measuring));
  if (measuring) L.tooltip({ permanent: true, direction: "center", className: "reach" }).setLatLng(map.getCenter()).setContent(escape(TEXT.measure_help)).addTo(measuring.layer);
}
map.on("click", event => {
  if (!measuring) return;
  measuring.points.push(event.latlng);
  measuring.layer.clearLayers();
  L.polyline(measuring.points, { color: tone("--accent"), weight: 3 }).addTo(measuring.layer);
  for (const point of measuring.points) L.circleMarker(point, { radius: 4, color: tone("--accent"), fillOpacity: 1, interactive: false }).addTo(measuring.layer);
  const places = measuring.points.map(p => [p.lat, p.lng]);
  const total = places.slice(1).reduce((sum, place, n) => sum + metres(places[n], place), 0);
  L.tooltip({ permanent: true, direction: "right", offset: [8, 0], className: "reach" }).setLatLng(event.latlng).setContent(length(total)).addTo(measuring.layer);
});
const Tools = L.Control.extend({ onAdd() {
  const bar = L.DomUtil.create("div", "leaflet-bar");
  L.DomEvent.disableClickPropagation(bar);
  this.ruler = tool(TEXT.measure, line("M2 14L14 2l4 4L6 18z M6 10l2 2M9 7l2 2M12 4l2 2"), measure);
  bar.append(tool(TEXT.zoom_in, "+", () => map.zoomIn()), tool(TEXT.zoom_out, "−", () => map.zoomOut()), tool(TEXT.fit, line("M3 7V3h4M13 3h4v4M17 13v4h-4M7 17H3v-4"), fit),
    this.ruler, tool(TEXT.print, line("M5 8V3h10v5M5 14H3V8h14v6h-2M6 12h8v5H6z"), () => print()));
  return bar;
} });
const tools = new Tools({ position: "topright" }).addTo(map);
document.addEventListener("keydown", event => { if (event.key === "Escape" && measuring) measure(tools.ruler); });
