"""Textures that stand in for near-same ones."""
