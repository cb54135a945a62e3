"""ETC2 and EAC."""
