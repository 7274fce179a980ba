"""Words that reader and writer share: of extensions, and of what stands in ``extras`` because glTF has none for it."""

UV_NAMES = "uv_sets"
"""In the extras of a mesh: the names of its UV sets, in the order of TEXCOORD_0, TEXCOORD_1 and so on."""
