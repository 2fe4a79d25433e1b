"""Markers: GeoJSON, the page with its map, pictures."""
