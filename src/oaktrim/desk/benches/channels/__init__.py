"""The Channels bench: packs, patches and glyph sheets."""
