"""ASTC, low dynamic range."""
