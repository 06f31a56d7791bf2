"""A line a key for whatever reads messages: a template with a place for what each key is."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence

from eager_tern.errors import InputError
from eager_tern.export.keys import ExportedKey
from eager_tern.export.names import in_a_line
from eager_tern.protocol.fields import Value

# Ready-made ones by name: all there is, the code alone, raw timings alone.
TEMPLATES = {
    "full": '{"key": "{label}", "protocol": "{protocol}", "fields": {fields}, "code": "{code}", "bits": "{bits}",'
    ' "carrier_hz": {carrier_hz}, "pulses_us": {pulses_us}}',
    "code": '{"key": "{label}", "protocol": "{protocol}", "code": "{code}"}',
    "raw": '{"key": "{label}", "carrier_hz": {carrier_hz}, "pulses_us": {pulses_us}}',
    "fields": '{"key": "{label}", "fields": {fields}}',
}
USUAL = "full"
PLACE = re.compile(r"\{([a-z][a-z0-9_]*)\}")


def payloads(keys: Sequence[ExportedKey], template: str = USUAL) -> str:
    """A line a key. ``template`` is the name of a ready-made one or a text of one's own.

    Words stand as in JSON where the template is an object of it, else as they are, in one line. Raises InputError
    naming a place that no key has, and where what ought to be JSON is none.
    """
    text = TEMPLATES.get(template, template)
    is_json = text.lstrip().startswith(("{", "[")) and PLACE.match(text.lstrip()) is None
    lines = [_filled(text, key, is_json) for key in keys]
    for line in lines if is_json else ():
        try:
            json.loads(line)
        except ValueError as error:
            raise InputError("the template", f"makes no JSON ({error}): {in_a_line(line)}") from None
    return "".join(f"{line}\n" for line in lines)


def _filled(template: str, key: ExportedKey, is_json: bool) -> str:
    values = _values(key)

    def value(found: re.Match[str]) -> str:
        name = found[1]
        if name not in values:
            known = ", ".join(f"{{{each}}}" for each in values)
            raise InputError("the template", f'has a place "{{{name}}}"; known are {known}')
        said = values[name]
        if isinstance(said, str):
            return json.dumps(said, ensure_ascii=False)[1:-1] if is_json else in_a_line(said)
        return json.dumps(said, ensure_ascii=False)

    return PLACE.sub(value, template)


def _values(key: ExportedKey) -> dict[str, Value | dict[str, Value] | list[int]]:
    codes = key.codes
    return {
        **key.fields,
        "label": key.name,
        "protocol": key.protocol,
        "code": codes.as_sent if codes else "",
        "code_turned": codes.turned if codes else "",
        "bits": key.bits,
        "fields": key.fields,
        "carrier_hz": round(key.carrier_hz or 0),
        "pulses_us": [round(each) for each in key.pulses_us],
    }
