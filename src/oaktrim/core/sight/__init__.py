"""How large textures need to be from where a player can stand, and what a streaming budget blurs along a path."""
