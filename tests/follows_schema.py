#!/usr/bin/env python3
"""Does a JSON document on standard input follow a schema? The part of JSON Schema that docs/schema uses.

    follows_schema.py SCHEMA < DOCUMENT
"""
import json
import re
import sys

TYPES = {
    "object": dict, "array": list, "string": str, "boolean": bool, "null": type(None),
}


def is_type(value, name):
    if name == "integer":
        return isinstance(value, int) and not isinstance(value, bool)
    if name == "number":
        return isinstance(value, (int, float)) and not isinstance(value, bool)
    return isinstance(value, TYPES[name])


def look(value, schema, where):
    if "anyOf" in schema:
        tries = [faults(value, s, where) for s in schema["anyOf"]]
        if not any(not t for t in tries):
            yield min(tries, key=len)[0] if tries else where
        return
    if "const" in schema and value != schema["const"]:
        yield f"{where} is {value!r}, not {schema['const']!r}"
    if "enum" in schema and value not in schema["enum"]:
        yield f"{where} is {value!r}, none of {schema['enum']}"
    names = schema.get("type", [])
    names = [names] if isinstance(names, str) else names
    if names and not any(is_type(value, n) for n in names):
        yield f"{where} is {value!r}, not of type {names}"
        return
    if "pattern" in schema and isinstance(value, str) and not re.search(schema["pattern"], value):
        yield f"{where} is {value!r}, which does not match {schema['pattern']}"
    if isinstance(value, dict) and "properties" in schema:
        for key in schema.get("required", []):
            if key not in value:
                yield f"{where}.{key} is missing"
        for key, inner in value.items():
            if key in schema["properties"]:
                yield from look(inner, schema["properties"][key], f"{where}.{key}")
            elif not schema.get("additionalProperties", True):
                yield f"{where}.{key} is not in the schema"
    if isinstance(value, list) and "items" in schema:
        for i, inner in enumerate(value):
            yield from look(inner, schema["items"], f"{where}[{i}]")


def faults(value, schema, where):
    return list(look(value, schema, where))


with open(sys.argv[1]) as f:
    found = faults(json.load(sys.stdin), json.load(f), "document")
for fault in found:
    print(fault)
sys.exit(1 if found else 0)
