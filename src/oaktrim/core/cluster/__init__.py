"""Many machines: textures are made by the workers of a Dask scheduler, and kept here as if they had been made here."""
