"""First bytes of the formats whose rows can be read one by one."""

from __future__ import annotations

TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
NPY = (b"\x93NUMPY",)
