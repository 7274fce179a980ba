"""X3D in XML."""
