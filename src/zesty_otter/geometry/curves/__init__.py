"""Exact curves and surfaces, and the polygons they become."""
