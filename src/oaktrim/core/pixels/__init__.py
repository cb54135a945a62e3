"""Images as arrays: colour, resampling, mip levels, statistics and measures."""
