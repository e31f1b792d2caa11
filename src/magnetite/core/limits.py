"""How large a picture may be that is read."""

from __future__ import annotations

from magnetite.core.errors import LimitError

#: Samples of all channels that a reader accepts by default.
MAX_SAMPLES = 2**28
#: Bytes that pictures may take before they are worked on in bands.
MEMORY = 2**30
#: Bytes for each sample that work on a picture is taken to need where nothing else is known.
BYTES_PER_SAMPLE = 64.0


def check_samples(samples: int, most: int) -> None:
    """Raise `LimitError` for more samples than are read: known from a header, before decoding."""
    if samples > most:
        raise LimitError(
            f"the header declares {samples} samples; at most {most} are read, or as many as "
            "max-samples says"
        )
