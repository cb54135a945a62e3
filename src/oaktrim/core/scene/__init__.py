"""Models as values: meshes, UV sets, materials, nodes, skins and animations, whatever file they came from."""
