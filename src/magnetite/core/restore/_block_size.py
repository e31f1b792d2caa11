"""Blocks that patch-based restorations and their compiled loops agree on."""

#: Side of a block, px; distance of reference blocks; how far like blocks are looked for.
BLOCK, STEP, REACH = 8, 3, 19
