"""Pixels to blocks and back, a module a family of formats."""
