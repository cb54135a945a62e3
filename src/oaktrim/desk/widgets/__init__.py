"""Pieces of the window that paint themselves."""
