"""Validators of the open standards' schemas."""

import json
from pathlib import Path

import jsonschema_rs

STANDARDS = Path(__file__).parents[1] / "data" / "standards"


def validator(name: str):
    schema = json.loads((STANDARDS / name).read_text("utf-8"))
    return jsonschema_rs.validator_for(schema)
