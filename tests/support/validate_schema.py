"""validate_schema.py SCHEMA FILE...: each file by the schema, in which no key is allowed that it does not name."""
import json
import sys

import jsonschema


def close(schema):
    """Where an object's keys are listed, others are forbidden."""
    if isinstance(schema, dict):
        if "properties" in schema and isinstance(schema["properties"], dict):
            schema.setdefault("additionalProperties", False)
        for part in schema.values():
            close(part)
    elif isinstance(schema, list):
        for part in schema:
            close(part)


schema = json.load(open(sys.argv[1], encoding="utf-8"))
jsonschema.Draft202012Validator.check_schema(schema)
close(schema)
wrong = 0
for name in sys.argv[2:]:
    for error in jsonschema.Draft202012Validator(schema).iter_errors(json.load(open(name, encoding="utf-8"))):
        print(name, "/".join(map(str, error.absolute_path)), error.message[:200])
        wrong += 1
sys.exit(1 if wrong else 0)
