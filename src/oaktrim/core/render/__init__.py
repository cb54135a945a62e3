"""The software renderer: cameras, rasterising, sampled textures and shading, without a GPU or a driver."""
