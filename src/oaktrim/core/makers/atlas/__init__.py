"""Atlases: many materials into one, each island of UVs moved as it is."""
