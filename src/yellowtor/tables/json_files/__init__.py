"""JSON arrays, JSON lines and GeoJSON points."""
