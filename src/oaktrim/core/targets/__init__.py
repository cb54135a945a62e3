"""Platforms: their limits, their hardware, and what they make of a texture that does not suit them."""
