"""STL: bare triangles."""
