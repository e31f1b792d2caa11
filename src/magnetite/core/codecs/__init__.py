"""Codecs: layers that run forwards to bytes and backwards from them, and the `.mgt` container."""
