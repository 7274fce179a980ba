"""What glTF has no words for and stands in its ``extras``: names of our own, read and written."""

UV_NAMES = "uv_sets"
"""In the extras of a mesh: the names of its UV sets, in the order of TEXCOORD_0, TEXCOORD_1 and so on."""
