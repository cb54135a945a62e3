"""Makers: what makes new textures out of old ones, and the inventory with what they make."""
