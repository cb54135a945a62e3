"""Surfaces: photographs that become usable textures."""
