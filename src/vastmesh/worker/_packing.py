"""Inputs, answers and results as bytes that go from one process to another, and into the store."""

from __future__ import annotations

import pickle
import zlib
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from typing import IO, Any

import numpy as np
import orjson

from ..core.network import Network, dump_item
from ..core.results import Result
from ..core.studies import Inputs
from ..exchange import facts_of, pack_tables, result_from, unpack_tables

_BLOCK = 250  # items packed in one go: the interpreter is not held longer than some milliseconds


@dataclass(frozen=True)
class Packed:
    """A result as it is kept. ``facts``: compressed JSON of options, condition and everything but the tables."""

    facts: bytes
    tables: bytes


def pack_inputs(inputs: Inputs) -> Iterator[bytes]:
    """Inputs as a sequence of blocks, each made when it is asked for, so that others get their turn in between."""
    items = list(inputs.network.items.values())
    yield pickle.dumps(replace(inputs, network=Network()), protocol=5)
    for first in range(0, len(items), _BLOCK):
        yield pickle.dumps(items[first : first + _BLOCK], protocol=5)


def load_inputs(source: IO[bytes]) -> Inputs:
    """What :func:`pack_inputs` gave, one block after the other. Only ever from this program's own files."""
    shell: Inputs = pickle.load(source)
    items = []
    while True:
        try:
            items += pickle.load(source)
        except EOFError:
            break
    return replace(shell, network=Network.of_items(items))


def pack_answer(answer: Mapping[str, Any]) -> bytes:
    """The answer of a part: arrays as they lie in memory behind a head of JSON. Raises :class:`TypeError` for anything
    but arrays of numbers or texts and plain values."""
    plain: dict[str, Any] = {}
    arrays: list[tuple[str, str, tuple[int, ...]]] = []
    body = []
    for name, value in answer.items():
        if isinstance(value, np.ndarray):
            if value.dtype.kind not in "biufcU":
                raise TypeError(f"{name}: an array of {value.dtype} is no plain answer")
            arrays.append((name, value.dtype.str, value.shape))
            body.append(np.ascontiguousarray(value).tobytes())
        else:
            plain[name] = value
    head = orjson.dumps({"plain": plain, "arrays": arrays})
    return b"".join([len(head).to_bytes(8, "little"), head, *body])


def unpack_answer(data: bytes) -> dict[str, Any]:
    """What :func:`pack_answer` packed; arrays are read-only."""
    length = int.from_bytes(data[:8], "little")
    head = orjson.loads(data[8 : 8 + length])
    found: dict[str, Any] = dict(head["plain"])
    at = 8 + length
    for name, kind, shape in head["arrays"]:
        dtype = np.dtype(kind)
        count = int(np.prod(shape, dtype=np.int64))
        found[name] = np.frombuffer(data, dtype, count, at).reshape(shape) if count else np.zeros(shape, dtype)
        at += count * dtype.itemsize
    return found


def pack_result(result: Result, inputs: Inputs, options: Mapping[str, Any]) -> Packed:
    """A result with all that is needed to repeat it. Raises :class:`TypeError` for what is no result."""
    if not isinstance(result, Result):
        raise TypeError(f"the study answered with {type(result).__name__} instead of a result")
    tables, columns = pack_tables(result.tables)
    facts = {"options": options, "condition": dump_item(inputs.under), "tables": columns, **facts_of(result)}
    return Packed(zlib.compress(orjson.dumps(facts, option=orjson.OPT_SERIALIZE_NUMPY), 3), tables)


def unpack_result(packed: Packed) -> tuple[dict[str, Any], Result]:
    """Facts and result of what :func:`pack_result` packed, or of a kept run."""
    facts: dict[str, Any] = orjson.loads(zlib.decompress(packed.facts))
    return facts, result_from(facts, unpack_tables(packed.tables, facts["tables"]))
