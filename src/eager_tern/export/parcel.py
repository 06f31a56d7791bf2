"""A gadget packed into one file for another casebook: sheets, labelled recordings, keys and their table."""

from __future__ import annotations

import io
import zipfile

from eager_tern.export.keys import to_csv
from eager_tern.export.subject import Subject
from eager_tern.formats.parcel import LIST, Contents, Labelled, Placed, Recorded, packed
from eager_tern.formats.timing_text import to_text

WRITTEN_AT = (1980, 1, 1, 0, 0, 0)  # of its members: the same gadget makes the same bytes


def parcel(subject: Subject) -> bytes:
    """The archive."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in _files(subject).items():
            archive.writestr(zipfile.ZipInfo(name, WRITTEN_AT), text, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _files(subject: Subject) -> dict[str, str]:
    sheets = {f"sheets/{name}.toml": text for name, text in subject.sheet_texts.items()}
    recordings = {f"recordings/{number:03d}.txt": each for number, each in enumerate(subject.recordings, 1)}
    what = Contents(
        name=subject.title,
        about=subject.about,
        sheets=list(sheets),
        keys=[Placed(name=place.name, row=place.row, col=place.col) for place in subject.places],
        recordings=[
            Recorded(
                file=file,
                carrier_hz=each.pulses.carrier_hz,
                presses=[Labelled(start_us=a, end_us=b, label=label) for a, b, label in each.labels],
            )
            for file, each in recordings.items()
        ],
    )
    texts = {file: to_text(each.pulses) for file, each in recordings.items()}
    return packed(what, {**sheets, **texts, "keys.csv": to_csv(subject.title, subject.keys)})


def listing(archive: bytes) -> str:
    """What is in a parcel: its list, then every file with its size."""
    with zipfile.ZipFile(io.BytesIO(archive)) as opened:
        sizes = "\n".join(f"{each.file_size:>10,}  {each.filename}" for each in opened.infolist())
        return f"{sizes}\n\n{LIST}\n\n{opened.read(LIST).decode()}"
