"""Tables for a batch: CSV, JSON, JSON lines, spreadsheets, or any iterable of records; read once, then had by number.

What is read is kept in a temporary file, so that a table of any length takes little memory, and that standard input and
iterators, which come once only, can be gone through twice.
"""

from __future__ import annotations

import codecs
import csv
import hashlib
import io
import json
import pickle
import re
import tempfile
import weakref
from array import array
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping
from contextlib import suppress
from pathlib import Path
from typing import IO, Any, Self

from pribble.errors import DataError, PribbleError, Source, loaded, visible
from pribble.language.parsing import RESERVED
from pribble.records import record
from pribble.values.reading import read_json

DELIMITERS = ",;\t|"
LONGEST_FIELD = 10_000_000  # characters of one field
_SNIFFED = 64 * 1024  # characters that tell which delimiter a table has
_LOOKED_AT = 20  # records of these


@record(frozen=True, slots=True)
class RowProblem:
    """What is wrong with a row: its `number`, from 1, the `line` of a file that it begins on, and what."""

    number: int
    line: int | None
    words: str

    def __str__(self) -> str:
        where = f"row {self.number}" + (f" (line {self.line})" if self.line is not None else "")
        return f"{where}: {self.words}"


class Rows:
    """The rows of a table.

    `columns` are their names, of records those of the first one; `notes` say what was found of its form, `problems`
    which rows are none.  What it keeps on the disk goes with it, or by leaving a ``with``.
    """

    def __init__(self, name: str) -> None:
        self.name = name
        self.columns: tuple[str, ...] = ()
        self._names: dict[str, str] = {}
        self.notes: list[str] = []
        self.problems: list[RowProblem] = []
        self._spool = tempfile.TemporaryFile()  # noqa: SIM115 - closed with the rows
        weakref.finalize(self, self._spool.close)
        self._ends = array("Q")
        self._numbers = array("Q")  # of the table: rows that are none are left out
        self._lines = array("Q")
        self._whole = hashlib.sha256()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._spool.close()

    def __len__(self) -> int:
        return len(self._ends)

    def __iter__(self) -> Iterator[Any]:
        return (self[index] for index in range(len(self)))

    def __getitem__(self, index: int) -> Any:
        if not 0 <= index < len(self._ends):
            raise IndexError(index)
        start = self._ends[index - 1] if index else 0
        self._spool.seek(start)
        record = pickle.loads(self._spool.read(self._ends[index] - start))  # which this process has written
        if type(record) is not tuple:
            return record
        row = dict(zip(self.columns, record, strict=True))
        for name, column in self._names.items():
            row[name] = row[column]
        return row

    def name_columns(self, written: Iterable[str]) -> None:
        """Take the names of the columns; what is no name in marks, as ``Berth no.``, gets one besides: ``Berth_no``.

        Raises `DataError` for a column without a name, and for two with one.
        """
        columns = tuple(column.strip() for column in written)
        if not all(columns):
            raise DataError(f"{self.name}: a column has no name")
        for column, count in Counter(columns).items():
            if count > 1:
                raise DataError(f'{self.name}: two columns are called "{visible(column)}"')
        self.columns = columns
        free = Counter(_name_in_marks(column) for column in columns)
        for column in columns:
            name = _name_in_marks(column)
            if name and name != column and free[name] == 1:
                self._names[name] = column
                self.notes.append(f'the column "{visible(column)}" is {name} in marks')

    def number(self, index: int) -> int:
        """Returns the number of a row in its table, from 1."""
        return self._numbers[index]

    def problem(self, index: int, words: str) -> RowProblem:
        """Returns what is wrong with a row, with its place."""
        return RowProblem(self._numbers[index], self._lines[index] or None, words)

    @property
    def digest(self) -> str:
        """What tells this table from another one."""
        return self._whole.hexdigest()

    def add(self, record: Any, number: int, line: int | None = None) -> None:
        """Keep one more row; a tuple has a value for each column."""
        if not self.columns and isinstance(record, dict):
            self.columns = tuple(name for name in record if isinstance(name, str))
        self._spool.seek(0, io.SEEK_END)
        self._spool.write(pickle.dumps(record, protocol=5))
        self._ends.append(self._spool.tell())
        self._numbers.append(number)
        self._lines.append(line or 0)
        self._whole.update(bytes.fromhex(row_digest(record)))


def _name_in_marks(column: str) -> str:
    """Returns the name that a column has in the marks of a template; nothing where it can have none."""
    name = re.sub(r"\W+", "_", column).strip("_") if not re.fullmatch(r"[^\W\d]\w*", column) else column
    return "" if not name or name[0].isdigit() or name in RESERVED else name


def row_digest(record: Any) -> str:
    """Returns what tells the data of a row from others."""
    as_text = json.dumps(record, sort_keys=True, default=str, ensure_ascii=False, separators=(",", ":"))
    return hashlib.sha256(as_text.encode("utf-8", "surrogatepass")).hexdigest()


def read_rows(source: str | Path | Iterable[Any], name: str | None = None) -> Rows:
    """Returns the rows of a file, by its ending, or of an iterable of records: mappings, or what declares its fields.

    A pandas DataFrame, ``.xlsx`` and ``.parquet`` are loaded whole.  Raises `DataError` for what is no table, `OSError`
    for a file that cannot be read, `MissingExtra` where pandas is asked for and not installed.
    """
    if not isinstance(source, str | Path):
        return _from_records(source, name or "the rows")
    path = Path(source)
    ending = path.suffix.lower()
    if ending in (".xlsx", ".parquet"):
        return _of_frame_file(path, ending)
    if ending not in _TEXTS:
        raise DataError(f"{path}: a table ends in {', '.join([*_TEXTS, '.xlsx', '.parquet'])}")
    with open(path, "rb") as file:
        return read_stream(file, str(path), _TEXTS[ending])


def read_stream(file: IO[bytes], name: str, form: str | None = None) -> Rows:
    """Returns the rows of octets that can be gone through once; without a `form`, the first character tells: ``[`` and
    ``{`` begin JSON."""
    with tempfile.TemporaryFile() as whole:
        while octets := file.read(1 << 20):
            whole.write(octets)
        whole.seek(0)
        rows = Rows(name)
        encoding = _encoding(whole, rows)
        whole.seek(0)
        with io.TextIOWrapper(whole, encoding=encoding, newline="") as text:
            try:
                if form is None:
                    beginning = text.read(1000).lstrip()
                    text.seek(0)
                    form = "json" if beginning[:1] in ("[", "{") else "csv"
                (_read_csv if form == "csv" else _read_json_rows)(text, rows)
            except BaseException:
                rows.__exit__()
                raise
    return rows


_TEXTS = {".csv": "csv", ".tsv": "csv", ".txt": "csv", ".json": "json", ".jsonl": "json", ".ndjson": "json"}


def _encoding(file: IO[bytes], rows: Rows) -> str:
    """Returns the encoding of a file: what its byte order mark says, else UTF-8 where it is that throughout."""
    beginning = file.read(4)
    for mark, encoding in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if beginning.startswith(mark):
            return encoding
    decoder = codecs.getincrementaldecoder("utf-8")()
    file.seek(0)
    try:
        while octets := file.read(1 << 20):
            decoder.decode(octets)
        decoder.decode(b"", final=True)
    except UnicodeDecodeError:
        rows.notes.append("it is no UTF-8, and was read as windows-1252")
        return "windows-1252"
    return "utf-8"


# ---- CSV (RFC 4180, and what else is written) ---------------------------------------------------------------------


def _read_csv(text: io.TextIOWrapper, rows: Rows) -> None:
    before = csv.field_size_limit(LONGEST_FIELD)
    try:
        sniffed = text.read(_SNIFFED)
        text.seek(0)
        delimiter = _delimiter(sniffed)
        if delimiter != ",":
            rows.notes.append(f"its columns are divided by {_SHOWN.get(delimiter, delimiter)}")
        reader = csv.reader(text, delimiter=delimiter, strict=True)
        head = next((fields for fields in reader if fields), None)
        if head is None:
            raise DataError(f"{rows.name}: the table is empty")
        rows.name_columns(head)
        number, line = 0, reader.line_num + 1
        for fields in reader:
            if fields:
                number += 1
                if len(fields) == len(head):
                    rows.add(tuple(fields), number, line)
                else:
                    words = f"{len(fields)} fields, where the head has {len(head)}"
                    rows.problems.append(RowProblem(number, line, words))
            line = reader.line_num + 1
    except csv.Error as error:
        raise DataError(f"{rows.name}:{reader.line_num}: this is no CSV: {error}") from None
    except UnicodeError as error:
        raise DataError(f"{rows.name}: {error}") from None
    finally:
        csv.field_size_limit(before)


_SHOWN = {"\t": "tabs", ";": "semicolons", "|": "bars"}


def _delimiter(sniffed: str) -> str:
    """Returns what divides the columns: what gives the first records the same number of fields, and most of them."""
    best, most = ",", 1
    for delimiter in DELIMITERS:
        widths: list[int] = []
        with suppress(csv.Error):
            for fields in csv.reader(io.StringIO(sniffed, newline=""), delimiter=delimiter, strict=True):
                if fields:
                    widths.append(len(fields))
                if len(widths) == _LOOKED_AT:
                    break
        common = widths[0] if widths else 0
        if common > most and widths.count(common) * 2 > len(widths):
            best, most = delimiter, common
    return best


# ---- JSON ---------------------------------------------------------------------------------------------------------


def _read_json_rows(text: io.TextIOWrapper, rows: Rows) -> None:
    first = ""
    while not first.strip():
        first = text.readline()
        if not first:
            raise DataError(f"{rows.name}: the table is empty")
    if first.lstrip().startswith("["):
        text.seek(0)
        found = read_json(Source(rows.name, text.read()))
        if not isinstance(found, list):
            raise DataError(f"{rows.name}: a table in JSON is a list of objects")
        for number, record in enumerate(found, 1):
            _add_object(record, rows, number, None)
        return
    text.seek(0)
    number = 0
    for line_number, line in enumerate(text, 1):
        if line.strip():
            number += 1
            try:
                record = read_json(Source(f"{rows.name}, line {line_number}", line.rstrip("\r\n")))
            except DataError as error:
                rows.problems.append(RowProblem(number, line_number, error.problem))
                continue
            _add_object(record, rows, number, line_number)


def _add_object(record: Any, rows: Rows, number: int, line: int | None) -> None:
    if isinstance(record, dict):
        rows.add(record, number, line)
    else:
        rows.problems.append(RowProblem(number, line, "this is no object"))


# ---- records and frames -------------------------------------------------------------------------------------------


def _from_records(records: Iterable[Any], name: str) -> Rows:
    rows = Rows(name)
    try:
        if hasattr(records, "itertuples") and hasattr(records, "columns"):
            rows.notes.append("it was loaded whole")
            rows.name_columns(map(str, records.columns))
            records = records.itertuples(index=False, name=None)
        for number, record in enumerate(records, 1):
            rows.add(dict(record) if isinstance(record, Mapping) else record, number)
    except BaseException as error:
        rows.__exit__()
        if isinstance(error, pickle.PicklingError | TypeError | AttributeError) and not isinstance(error, PribbleError):
            raise DataError(f"{name}: a row cannot be kept until it is sent ({error})") from None
        raise
    return rows


def _of_frame_file(path: Path, ending: str) -> Rows:
    pandas = loaded("pandas", extra="tables", message=f"{ending} files need the pandas package")
    try:
        frame = pandas.read_excel(path) if ending == ".xlsx" else pandas.read_parquet(path)
    except ImportError as error:
        raise DataError(f"{path}: {error}") from None
    except OSError:
        raise
    except Exception as error:  # each reader has its own
        raise DataError(f"{path}: this is no {ending} file ({type(error).__name__}: {error})") from None
    return _from_records(frame, str(path))
