"""COLLADA 1.4.1 and 1.5."""
