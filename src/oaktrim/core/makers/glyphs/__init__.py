"""Glyph sheets: the glyphs of a font in one texture."""
