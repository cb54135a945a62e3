"""Patches: the used rectangle of an overlay."""
