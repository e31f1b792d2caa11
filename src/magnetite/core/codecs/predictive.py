"""Predictive codec: lossless, or with a bound on the largest error."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

from magnetite.core.arrays import Int32, Int64, UInt8
from magnetite.core.codecs.layers.colour import DigitalPlanes
from magnetite.core.codecs.layers.pipeline import EachPlane, Named, Pipeline
from magnetite.core.methods.catalogue import ColourPolicy, codec
from magnetite.core.methods.parameters import Count
from magnetite.core.picture.frame import Frame


@codec(
    "predictive",
    summary="Blended predictors and contexts: lossless, or within a bound of every sample.",
    colour=ColourPolicy.JOINT,
    source="Wu and Memon, IEEE Trans. Communications 45(4), 1997, doi:10.1109/26.585919; Seemann "
    "and Tischer, Data Compression Conf., 1997, doi:10.1109/DCC.1997.582062",
    quality="bound",
    finer="lower",
    points="0,1,2,3,5,8,12,20",
    slabbed=True,
)
def predictive(
    frame: Frame,
    *,
    bound: Annotated[int, Count(0, 4095), "largest error of any sample, dn; 0 is lossless"] = 0,
) -> Pipeline:
    """Code each sample as the error of a prediction from those before it.

    Lossless RGB goes in as reversible luma and differences, with a bound as it is. Raises
    `PictureError` for float pictures, which have no digital numbers.
    """
    planes = DigitalPlanes(frame, "reversible" if bound == 0 else "none")
    shape = (frame.height, frame.width)
    stages = [[Predicted(shape, *span, bound)] for span in planes.spans]
    return Pipeline([planes, EachPlane(stages), Named(planes.names)])


@dataclass(frozen=True)
class Predicted:
    """A plane of whole numbers from `low` to `high`, to bytes."""

    shape: tuple[int, int]
    low: int
    high: int
    bound: int

    def forward(self, plane: Int32) -> bytes:
        from magnetite.core.codecs.entropy import stripes

        return stripes.encode(self._model, plane.copy())

    def backward(self, data: bytes) -> Int32:
        from magnetite.core.codecs.entropy import stripes

        return stripes.decode(self._model, data, self.shape)

    def _model(self, coder: Int64, data: UInt8, x: Int32) -> None:
        from magnetite.core.codecs.entropy import samples_model

        samples_model.run(coder, data, x, self.low, self.high, self.bound)
