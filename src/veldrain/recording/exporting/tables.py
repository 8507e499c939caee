"""Streams as tables of numbers: CSV, Parquet, NPZ."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from veldrain.files import write_csv
from veldrain.recording.exporting.base import Choices, Export, needed
from veldrain.recording.reading import Streams
from veldrain.recording.tables import IMAGE, PACKED_IMAGE

if TYPE_CHECKING:
    import pandas as pd


class TableExport(Export):
    """One file a stream, of any messages but pictures."""

    def fits(self, message: str) -> bool:
        return message not in (IMAGE, PACKED_IMAGE)

    def tables(self, log: Streams, stream: str) -> Iterator[pd.DataFrame]:
        """The stream as tables of the same columns, some rows at a time."""
        parts = log.table_parts(stream)
        first = next(parts)
        second = next(parts, None)
        if second is None:
            yield _flat(first)
        elif list(_flat(first)) == list(_flat(second)):
            yield from (_flat(first), _flat(second))
            yield from (_flat(part) for part in parts)
        else:  # the columns change on the way
            yield _flat(log.table(stream))


def _flat(table: pd.DataFrame) -> pd.DataFrame:
    """Arrays of one length as columns ``name[0]``, …; others as JSON."""
    columns: dict[str, Any] = {}
    for name in table:
        values = table[name]
        if values.dtype == object and len(values) and isinstance(values.iloc[0], np.ndarray):
            arrays = values.tolist()
            if len({np.shape(v) for v in arrays}) == 1:
                columns |= {f"{name}[{k}]": column for k, column in enumerate(np.stack(arrays).T)}
            else:
                columns[str(name)] = [json.dumps(np.asarray(v).tolist()) for v in arrays]
        else:
            columns[str(name)] = values
    return type(table)(columns)


class Csv(TableExport):
    """Comma-separated values, a row a message, or a row for each of what a message has many of."""

    word = "csv"

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        with path.with_name(f"{path.name}.csv").open("w", encoding="utf-8", newline="") as file:
            for k, table in enumerate(self.tables(log, stream)):
                write_csv(table, file, header=k == 0)


class Parquet(TableExport):
    """Apache Parquet; units are in the columns' metadata."""

    word = "parquet"

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        try:
            import pyarrow as pa
            import pyarrow.parquet as pq
        except ImportError as error:
            raise needed("pyarrow", "parquet", "Parquet") from error
        writer = None
        for table in self.tables(log, stream):
            made = pa.Table.from_pandas(table, preserve_index=False)
            units = [{b"unit": log.unit(stream, name).encode()} for name in made.schema.names]
            fields = [field.with_metadata(unit) for field, unit in zip(made.schema, units, strict=True)]
            made = made.cast(pa.schema(fields))
            writer = writer or pq.ParquetWriter(path.with_name(f"{path.name}.parquet"), made.schema)
            writer.write_table(made.cast(writer.schema))
        if writer:
            writer.close()


class Npz(Export):
    """NumPy arrays, one a column; of pictures ``time`` (n,) and ``pictures`` (n, rows, columns) or (…, 3)."""

    word = "npz"

    def write(self, log: Streams, stream: str, path: Path, choices: Choices) -> None:
        target = path.with_name(f"{path.name}.npz")
        if log.messages[stream] in (IMAGE, PACKED_IMAGE):
            _pictures(log, stream, target)
            return
        table = log.table(stream)
        columns = {str(name): np.stack(v.tolist()) if _is_even(v) else v.to_numpy() for name, v in table.items()}
        kept = {name: v.astype(str) if v.dtype == object else v for name, v in columns.items()}
        np.savez_compressed(target, **kept)  # type: ignore[arg-type]


def _is_even(values: pd.Series) -> bool:
    """True for arrays of one shape."""
    is_array = values.dtype == object and len(values) > 0 and isinstance(values.iloc[0], np.ndarray)
    return is_array and len({np.shape(v) for v in values}) == 1


def _pictures(log: Streams, stream: str, target: Path) -> None:
    """All pictures of a stream, one at a time."""
    stamps = log.stamps(stream)
    with zipfile.ZipFile(target, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as file:
        with file.open("time.npy", "w") as member:
            np.save(member, stamps / 1e9)
        with file.open("pictures.npy", "w", force_zip64=True) as member:
            shape = None
            for _, picture in log.pictures(stream):
                if shape is None:
                    shape = picture.shape
                    head = {"descr": picture.dtype.str, "fortran_order": False, "shape": (len(stamps), *shape)}
                    np.lib.format.write_array_header_1_0(member, head)
                if picture.shape != shape:
                    raise ValueError(f"{stream} has pictures of two sizes, {shape} and {picture.shape}")
                member.write(np.ascontiguousarray(picture).tobytes())
