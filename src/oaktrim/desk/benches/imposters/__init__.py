"""The Imposters bench: things as a few cards for where they are far away, beside the real thing, and from where that will do."""
