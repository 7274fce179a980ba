"""What a polygon mesh is: edges, corners, normals, tangents, triangles, flat regions, places."""
