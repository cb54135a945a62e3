"""Packs: single-channel maps in the channels of one texture."""
