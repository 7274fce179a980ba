"""Triangles drawn into pictures."""
