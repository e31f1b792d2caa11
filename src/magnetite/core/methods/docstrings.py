"""Docstrings of methods: the text of the function, and sections that follow from its declaration.

A function states its formula and its peculiarities; shapes, units, bounds, defaults and
sources stand in the declaration alone, so that no docstring contradicts it.
"""

from __future__ import annotations

import inspect
import math

from magnetite.core.methods.declarations import ColourPolicy, Degradation, Figure, Method, Metric

_SHAPES = {
    ColourPolicy.EACH: "shape (h, w) or (h, w, n); of several channels each separately",
    ColourPolicy.JOINT: "shape (h, w) or (h, w, n)",
    ColourPolicy.LUMA: "shape (h, w) or (h, w, 3); RGB is reduced to luma (BT.601)",
    ColourPolicy.RGB: "shape (h, w, 3)",
}
_INPUTS = {
    "picture": ("Picture", ""),
    "frame": ("Frame", "Size, depth and colour of the picture."),
    "rng": ("numpy.random.Generator", ""),
    "peak": ("float, default 1.0", "Full scale of the arrays: 1.0, 255 for 8 bits, 65535 for 16."),
    "within": ("bool array, shape (h, w), optional", "Positions that count."),
    "clear": ("bool array, shape (h, w), optional", "Positions without clipped noise."),
}


def docstring(method: Method) -> str:
    """The text of a method's function and the sections Parameters, Returns, Raises, References."""
    written = inspect.getdoc(method.function) or method.summary
    if "\n---" in written:  # its author has written the sections
        return written
    sections = {
        "Parameters": [*_inputs(method), *_settings(method)],
        "Returns": _returns(method),
        "Raises": _raises(method),
        "References": [method.source],
    }
    parts = [f"{title}\n{'-' * len(title)}\n" + "\n".join(s) for title, s in sections.items()]
    return "\n\n".join([written, *parts]) + "\n"


def _inputs(method: Method) -> list[str]:
    lines = []
    for name in method.inputs:
        if name == "pixels" and isinstance(method, Figure):
            lines.append(f"pixels : array, {_SHAPES[method.colour]}")
        elif name == "pixels":
            lines.append(f"pixels : float array, {_SHAPES[method.colour]}, full-scale units")
        elif name == "reference":
            lines.append(f"reference, test : arrays of the same {_SHAPES[method.colour]}")
        elif name in _INPUTS:
            kind, meaning = _INPUTS[name]
            lines += [f"{name} : {kind}", *([f"    {meaning}"] if meaning else [])]
    return lines


def _settings(method: Method) -> list[str]:
    lines = []
    for one in (*method.parameters.values(), *method.implicit):
        optional = "optional" if one.default is None else f"default {one.default!r}"
        lines.append(f"{one.name} : {one.kind.argument()}{'' if one.required else f', {optional}'}")
        words = [f"{one.meaning[:1].upper()}{one.meaning[1:]}."] if one.meaning else []
        if one.key in method.one_of[:1]:
            words.append(f"Exactly one of {', '.join(method.one_of)} must be given.")
        lines += [f"    {text}" for text in words]
    return lines


def _returns(method: Method) -> list[str]:
    if isinstance(method, Figure):
        return ["float", f"    {'; '.join(_range(method))}."]
    if method.kind in ("conversion", "codec"):
        return ["Picture" if method.kind == "conversion" else "Pipeline"]
    shape = " of the same dtype"
    if not (isinstance(method, Degradation) and method.gives):
        shape += ", and of the same shape unless stated above"
    return [f"float array{shape}"]


def _range(method: Figure) -> list[str]:
    facts = [f"{method.values} {method.unit}".rstrip()]
    if method.power:
        facts = [f"In the unit of the arrays{' squared' if method.power == 2 else ''}"]
    if isinstance(method, Metric):
        facts.append(f"{method.better} is better")
        if method.identical is not None:
            same = "infinity" if math.isinf(method.identical) else f"{method.identical:g}"
            facts.append(f"{same} for identical arrays")
    return facts


def _raises(method: Method) -> list[str]:
    reason = "If the picture does not suit the settings."
    if isinstance(method, Metric):
        reason = f"If the arrays differ in shape, or are smaller than {method.smallest}."
    elif isinstance(method, Figure):
        reason = f"If the array is smaller than {method.smallest}."
    elif "pixels" in method.inputs:
        reason = "If the samples have another shape, or are not float."
    return ["PictureError", f"    {reason}"]
