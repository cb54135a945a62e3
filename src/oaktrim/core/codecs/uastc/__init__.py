"""UASTC: blocks that loaders make into the blocks of whatever hardware they meet."""
