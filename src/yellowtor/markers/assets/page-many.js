// Many markers, which the page itself groups or draws: those in view, each time that the map has moved.
const FEW = 5000; // markers for which the clustering plug-in is quick enough
const CELL_PX = 64, PAD_PX = 80, LISTED = 50;

// Where every record is at zoom 0 of the map, in pixels.
function projected() {
  const xs = new Float64Array(DATA.count).fill(NaN), ys = new Float64Array(DATA.count).fill(NaN);
  for (const at of everything) if (hasPlace(at)) {
    const { x, y } = L.CRS.EPSG3857.latLngToPoint(L.latLng(placeOf(at)), 0);
    xs[at] = x;
    ys[at] = y;
  }
  return [xs, ys];
}

// Calls each(at, x, y) for the shown records in view; x and y are pixels of the world at this zoom.
const InView = L.Layer.extend({
  initialize() { [this._xs, this._ys] = projected(); this._shown = []; },
  onAdd() { map.on("moveend zoomend resize", this.redraw, this); this.redraw(); },
  onRemove() { map.off("moveend zoomend resize", this.redraw, this); },
  show(some) { this._shown = some; if (this._map) this.redraw(); },
  each(take) {
    const { min, max } = map.getPixelBounds(), scale = 2 ** map.getZoom();
    for (const at of this._shown) {
      const x = this._xs[at] * scale, y = this._ys[at] * scale;
      if (x >= min.x - PAD_PX && x <= max.x + PAD_PX && y >= min.y - PAD_PX && y <= max.y + PAD_PX) take(at, x, y);
    }
  },
});

// Groups by the cells of a grid that moves with the map.
const Grid = InView.extend({
  onAdd() { this._group = L.featureGroup().addTo(map); InView.prototype.onAdd.call(this); },
  redraw() {
    const cells = new Map();
    this.each((at, x, y) => {
      const name = Math.floor(x / CELL_PX) * 1e7 + Math.floor(y / CELL_PX);
      const cell = cells.get(name);
      if (cell) { cell.members.push(at); cell.x += x; cell.y += y; } else cells.set(name, { members: [at], x, y });
    });
    this._group.clearLayers();
    for (const { members, x, y } of cells.values()) this._group.addLayer(members.length === 1 ? this._single(members[0]) : this._several(members, x, y));
  },
  _single(at) {
    const marker = markerOf(at).on("click", () => { openCard(at, marker); chosen(at); });
    return marker;
  },
  _several(members, x, y) {
    const middle = map.unproject(L.point(x / members.length, y / members.length));
    return L.marker(middle, { icon: clusterIcon(members), alt: say("cluster", members.length) }).on("click", () => {
      const box = L.latLngBounds(members.map(placeOf));
      if (map.getZoom() >= VIEW.most_zoom || box.getNorthEast().equals(box.getSouthWest(), 1e-6)) listed(members, middle);
      else map.fitBounds(box.pad(0.1), { maxZoom: VIEW.most_zoom });
    });
  },
});

// Draws every marker on one canvas.
const Dots = InView.extend({
  onAdd() {
    this._canvas = L.DomUtil.create("canvas", "leaflet-zoom-hide", map.getPane("markerPane"));
    map.on("click", this._find, this);
    InView.prototype.onAdd.call(this);
  },
  redraw() {
    const size = map.getSize(), ratio = devicePixelRatio || 1, canvas = this._canvas;
    canvas.width = size.x * ratio;
    canvas.height = size.y * ratio;
    canvas.style.width = `${size.x}px`;
    canvas.style.height = `${size.y}px`;
    L.DomUtil.setPosition(canvas, map.containerPointToLayerPoint([0, 0]));
    const context = canvas.getContext("2d"), origin = map.getPixelBounds().min;
    context.scale(ratio, ratio);
    const drawn = new Set(); // where there is one of this look already, no other would be seen
    this.each((at, x, y) => {
      const spot = ((y - origin.y + PAD_PX) >> 1) * 65536 + ((x - origin.x + PAD_PX) >> 1) + get("$look", at) * 2 ** 32;
      if (drawn.has(spot)) return;
      drawn.add(spot);
      const look = lookOf(at), half = look.size_px / 2 + 2;
      context.drawImage(stamp(look, ratio), x - origin.x - half, y - origin.y - (look.shape === "drop" ? 2 * half - 2 : half), 2 * half, 2 * half);
    });
  },
  _find(event) {
    if (measuring) return;
    const here = map.project(event.latlng);
    let best, reach = Infinity;
    this.each((at, x, y) => {
      const away = Math.hypot(x - here.x, y - here.y);
      if (away <= reach && away <= lookOf(at).size_px / 2 + 2) { best = at; reach = away; }
    });
    if (best !== undefined) { openCard(best); chosen(best); }
  },
});
const stamps = new Map();
function stamp(look, ratio) {
  if (!stamps.has(look)) {
    const size = (look.size_px + 4) * ratio, canvas = Object.assign(document.createElement("canvas"), { width: size, height: size });
    const context = canvas.getContext("2d"), outline = new Path2D(DATA.paths[look.shape]);
    context.scale(size / 24, size / 24);
    context.translate(12, 12);
    context.rotate(look.turn * RADIANS);
    context.translate(-10, -10);
    context.lineWidth = 3;
    context.strokeStyle = tone("--edge");
    context.stroke(outline);
    context.fillStyle = look.colour;
    context.fill(outline);
    stamps.set(look, canvas);
  }
  return stamps.get(look);
}
