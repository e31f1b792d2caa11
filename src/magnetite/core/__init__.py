"""Arrays and bytes in; arrays, bytes and figures out.

Nothing in this package opens a file, prints or draws. Methods live in one module per
family (`degrade`, `codecs`, `restore`, `metrics`); each is one function and its
declaration (`registry`). Array functions take float samples on full-scale units
(0 is black, 1 is full scale), shaped `(height, width)` or `(height, width, channels)`.
"""
