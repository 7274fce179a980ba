"""glTF 2.0, as one .glb file or as .gltf with files beside it."""
