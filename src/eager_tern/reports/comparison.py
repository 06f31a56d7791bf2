"""What ``compare`` says."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from eager_tern.compare.asking import next_shots
from eager_tern.compare.checks import Found
from eager_tern.compare.comparison import Comparison, is_possible
from eager_tern.compare.field import Field, Linear, Table
from eager_tern.compare.proof import Proof, is_settled, unproved
from eager_tern.compare.stack import label_word
from eager_tern.compare.wording import all_findings

COMPARISON = "eager-tern/comparison/1"


def comparison_document(found: Comparison, proof: Proof | None = None) -> dict[str, Any]:
    """The JSON document of ``compare``."""
    document: dict[str, Any] = {
        "schema": COMPARISON,
        "rows": found.stack.rows,
        "bit_count": found.stack.columns,
        "constant": found.stack.constant.tolist(),
        "varying": found.stack.varying.tolist(),
        "fields": [_found_field(field) for field in found.fields],
        "checks": [found_check(check) for check in found.checks],
        "counters": [
            {"kind": each.kind, "positions": list(each.positions), "chance": _chance(each.chance)}
            for each in found.counters
        ],
        "unexplained": list(found.unexplained),
    }
    document["next_shots"] = [{"labels": ask.labels, "why": ask.why} for ask in next_shots(found)]
    if proof is not None:
        counts = {"labelled": proof.labelled, "made": proof.made, "predicted": proof.predicted}
        document["proof"] = {
            **{name: int(rows.sum()) for name, rows in counts.items()},
            "unproved": unproved(found),
        }
    return document


def _found_field(field: Field) -> dict[str, Any]:
    document: dict[str, Any] = {
        "name": field.name,
        "positions": list(field.positions),
        "map": _map(field.map),
        "rows_explained": field.explained,
        "rows_contradicting": field.contradicting.tolist(),
        "chance": _chance(field.chance),
        "possible": is_possible(field),
    }
    if field.when:
        document["when"] = {name: list(values) for name, values in field.when.items()}
    if field.also:
        document["odds"] = round(field.odds[0], 3)
        document["also"] = [
            {"positions": list(each.positions), "map": _map(each.map), "odds": round(odds, 3)}
            for each, odds in zip(field.also, field.odds[1:], strict=True)
        ]
    if field.others:
        document["others"] = [{"positions": list(o.positions), "map": _map(o.map)} for o in field.others]
    return document


def _map(found: Linear | Table) -> dict[str, Any]:
    if isinstance(found, Table):
        return {"kind": "table", "encoding": "binary", "table": {str(k): v for k, v in sorted(found.words.items())}}
    rounded = {} if found.decimals is None else {"decimals": found.decimals}
    return {"kind": "linear", "encoding": found.encoding, "scale": found.scale, "offset": found.offset, **rounded}


def found_check(found: Found) -> dict[str, Any]:
    """A check as one of ``checks``."""
    check = found.check
    width = check.at.width
    parameters: dict[str, Any] = {
        "width": width,
        "unit": width if check.of is not None else check.unit,
        "order": check.order,
        "init": check.init,
        "negate": check.negate,
        "carry": check.carry,
        "swap": check.swap,
        "xor_out": check.xor_out,
        **({"by": check.by.index.tolist(), "seeds": {str(k): v for k, v in check.seeds.items()}} if check.by else {}),
        **({"modulus": check.modulus} if check.modulus else {}),
        **({"rotate": check.rotate} if check.rotate else {}),
    }
    if check.kind == "crc":
        parameters |= {"poly": check.poly, "reflect_in": check.reflect_in, "reflect_out": check.reflect_out}
    if check.kind == "linear":
        parameters["columns"] = [f"{column:0{(width + 3) // 4}x}" for column in check.columns]
    kind = "xor" if check.kind == "copy" else check.kind  # a copy is the exclusive-or of one number
    return {
        "kind": kind,
        "positions": list(found.positions),
        "covers": [list(span) for span in found.covers],
        "parameters": parameters,
        "rows_ok": int(found.holds.sum()),
        "rows_failing": np.flatnonzero(~found.holds).tolist(),
        "chance": _chance(found.chance),
    }


def _chance(log10: float) -> float:
    """A probability from its logarithm; what is less than the smallest number is that."""
    return float(10.0 ** max(min(log10, 0.0), -300.0))


def describe_comparison(found: Comparison, names: Sequence[str], proof: Proof | None = None) -> list[str]:
    """The comparison in lines for a person; ``names`` are what rows are called."""
    stack = found.stack
    lines = [
        f"{stack.rows} frames of {stack.columns} bits, {len(stack.varying)} of which vary, {found.explained} explained"
    ]
    for told in all_findings(found, names):
        lines += [f"{told.claim} {told.chance}".rstrip(), *(f"  {doubt}" for doubt in told.doubts)]
    for ask in next_shots(found):
        said = ", ".join(f"{n} = {label_word(v)}" for n, v in ask.labels.items()) or "anything that was not pressed yet"
        lines.append(f"next: {said} ({ask.why})")
    if is_settled(found):
        lines.append("no further press would settle more")
    if proof is not None:
        lines.append(f"{proof.words}, that is by a search that was not shown them")
        lines += [f"not proved yet: {each}" for each in unproved(found)]
    return lines
