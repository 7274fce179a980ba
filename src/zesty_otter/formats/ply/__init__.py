"""PLY: polygons with properties."""
