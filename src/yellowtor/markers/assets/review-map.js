// The map: the candidates of one address by their letters, and a marker that people can move.
const map = L.map("map", { zoomSnap: 0.25, attributionControl: false, maxZoom: DATA.most_zoom, worldCopyJump: true, keyboard: false });
const credits = L.control.attribution({ prefix: "" }).addTo(map);
if (DATA.credit) credits.addAttribution(escape(DATA.credit));
if (DATA.tiles) L.tileLayer(DATA.tiles, { attribution: escape(DATA.tile_credit), maxZoom: DATA.most_zoom, referrerPolicy: "strict-origin-when-cross-origin" }).addTo(map);
L.control.scale({ imperial: false }).addTo(map);
const theme = getComputedStyle(document.documentElement);
const tone = name => theme.getPropertyValue(name).trim();
for (const one of DATA.under) L.geoJSON(one, { interactive: false, pointToLayer: (_, at) => L.circleMarker(at, { radius: 2 }),
  style: feature => /Polygon/.test(feature.geometry.type) ? { color: tone("--coast"), weight: 1, fillColor: tone("--land"), fillOpacity: DATA.tiles ? 0 : 1 } : { color: tone("--road"), weight: 2 } }).addTo(map);

const letters = L.layerGroup().addTo(map);
let placing = null; // the marker that is being placed
const FAR_M = 30000; // no farther than this around a candidate is shown at first
const reachOf = offer => Math.max(DATA.tolerance, offer.reach);
function showOnMap(item, decision) {
  endPlacing();
  letters.clearLayers();
  const chosen = decision?.decision;
  for (const offer of [...item.offers].reverse()) {
    const icon = L.divIcon({ className: "", html: `<div class="letter${chosen === offer.letter ? " chosen" : ""}">${offer.letter}</div>`, iconSize: [28, 28] });
    L.circle(offer.at, { radius: reachOf(offer), color: tone("--pick"), weight: 1, fillOpacity: 0.06, interactive: false }).addTo(letters);
    L.marker(offer.at, { icon, title: `${offer.letter}: ${offer.matched}`, alt: `candidate ${offer.letter}: ${offer.matched}` })
      .bindTooltip(escape(offer.matched), { direction: "top", offset: [0, -12] }).on("click", () => placing || accept(offer.letter)).addTo(letters);
  }
  if (decision?.at && chosen === "place") L.marker(decision.at, { icon: pin(), alt: "the place that you decided" }).addTo(letters);
  const bounds = L.latLngBounds(decision?.at ? [decision.at] : []);
  for (const offer of item.offers) bounds.extend(L.latLng(offer.at).toBounds(2 * Math.min(reachOf(offer), FAR_M)));
  if (bounds.isValid()) map.fitBounds(bounds.pad(0.25), { maxZoom: 16, animate: false, padding: [30, 30] });
  else if (!map._loaded) everywhere();
}
function everywhere() {
  const places = ITEMS.flatMap(item => item.offers.map(offer => offer.at));
  if (places.length) map.fitBounds(L.latLngBounds(places), { animate: false }); else map.setView([0, 0], 2, { animate: false });
}
const pin = () => L.divIcon({ className: "", html: '<div class="placed"></div>', iconSize: [26, 26] });

function beginPlacing(at) {
  endPlacing();
  const marker = L.marker(at ?? map.getCenter(), { icon: pin(), draggable: true, autoPan: true, zIndexOffset: 2000, alt: "the new place" }).addTo(map);
  placing = { marker };
  marker.on("drag dragend", told);
  told();
  return marker;
}
function endPlacing() {
  placing?.marker.remove();
  placing = null;
}
const placeOfMarker = () => { const at = placing.marker.getLatLng().wrap(); return [Number(at.lat.toFixed(6)), Number(at.lng.toFixed(6))]; };
function told() { const said = element("placing-at"); if (said && placing) said.textContent = placeOfMarker().join(", "); }
map.on("click", event => { if (placing) { placing.marker.setLatLng(event.latlng); told(); } });
function movePlacing(key, far) {
  const step = far ? 50 : 5, moves = { ArrowUp: [0, -step], ArrowDown: [0, step], ArrowLeft: [-step, 0], ArrowRight: [step, 0] };
  placing.marker.setLatLng(map.containerPointToLatLng(map.latLngToContainerPoint(placing.marker.getLatLng()).add(moves[key])));
  if (!map.getBounds().contains(placing.marker.getLatLng())) map.panTo(placing.marker.getLatLng(), { animate: false });
  told();
}
