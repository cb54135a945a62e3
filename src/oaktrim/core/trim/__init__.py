"""Trimming glTF models: motion, vertices, materials and outfits brought down to what is needed, all else kept as it was."""
