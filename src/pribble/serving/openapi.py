"""The description of the interface, after OpenAPI 3.1, made of the routes and the kinds of problems."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, get_args

from pribble import __version__
from pribble.delivery.states import State
from pribble.language.field_schema import DIALECT
from pribble.pictures.picture_slots import EMBED
from pribble.serving.problems import PROBLEM_KINDS, PROBLEM_TYPE
from pribble.serving.routes import JSON, ROUTES, Answer, Route

_TEXT: dict[str, Any] = {"type": "string"}
_MAYBE_TEXT: dict[str, Any] = {"type": ["string", "null"]}
_TEXTS: dict[str, Any] = {"type": ["string", "array", "null"], "items": _TEXT}
_PARAMETERS = {
    "event": "the name of an event in `pribble.toml`",
    "key": "what tells the event from others of its name",
    "template": "the name of a template; a / in it may stand as it is, or as %2F",
}


def _object(needed: str, **properties: Any) -> dict[str, Any]:
    """Returns the schema of an object; `needed` names the members that are always there."""
    return {"type": "object", "properties": properties, **({"required": needed.split()} if needed else {})}


def _list(items: dict[str, Any]) -> dict[str, Any]:
    return {"type": "array", "items": items}


_WHERE: dict[str, Any] = {"type": ["object", "null"]}
_SCHEMAS: dict[str, dict[str, Any]] = {
    "Data": {"type": "object", "description": "what happened; which fields it needs, its templates say"},
    "Posted": _object(
        "event key is_new messages problems stopped",
        event=_TEXT,
        key=_TEXT,
        is_new={"type": "boolean", "description": "whether it was not posted before"},
        messages=_list(
            _object(
                "name message_id outcomes",
                name=_TEXT,
                message_id=_MAYBE_TEXT,
                outcomes=_list(
                    _object(
                        "recipient state code enhanced message",
                        recipient=_TEXT,
                        state={"type": "string", "enum": list(get_args(State))},
                        code={"type": ["integer", "null"]},
                        enhanced=_MAYBE_TEXT,
                        message=_MAYBE_TEXT,
                    )
                ),
            )
        ),
        problems=_list(_object("name message", name=_TEXT, message=_TEXT)),
        stopped=_list(_TEXT),
    ),
    "Rendering": {
        **_object(
            "data",
            data={"type": "object"},
            locale=_MAYBE_TEXT,
            timezone=_MAYBE_TEXT,
            embed={"enum": [*EMBED, None], "description": "how pictures travel"},
            sender={**_MAYBE_TEXT, "description": "a mailbox, or a name in [senders]; for a message"},
            to=_TEXTS,
            cc=_TEXTS,
            reply_to=_TEXTS,
        ),
        "additionalProperties": False,
    },
    "Rendered": _object(
        "template subject preheader html text findings",
        template=_TEXT,
        subject=_MAYBE_TEXT,
        preheader=_MAYBE_TEXT,
        html=_MAYBE_TEXT,
        text=_TEXT,
        findings=_list({"type": "object"}),
    ),
    "Templates": _object("templates", templates=_list(_object("name", name=_TEXT))),
    "Schema": {"type": "object"},
    "Health": _object("status waiting", status={"const": "ok"}, waiting={"type": "integer"}),
    "Interface": {"type": "object"},
    "Problem": _object(
        "type title status detail",
        type={"type": "string", "format": "uri"},
        title=_TEXT,
        status={"type": "integer"},
        detail=_TEXT,
        problems=_list(_object("message hint where", name=_TEXT, message=_TEXT, hint=_MAYBE_TEXT, where=_WHERE)),
    ),
}

# What a request for a rendering may have.
RENDERING_MEMBERS = tuple(_SCHEMAS["Rendering"]["properties"])


def openapi(*, has_token: bool) -> dict[str, Any]:
    """Returns the description of the interface; `has_token` says whether requests need one."""
    paths: dict[str, dict[str, Any]] = {}
    for route in ROUTES:
        paths.setdefault(route.path, {})[route.method.lower()] = _operation(route, has_token=has_token)
    components: dict[str, Any] = {"schemas": _SCHEMAS}
    if has_token:
        components["securitySchemes"] = {"token": {"type": "http", "scheme": "bearer"}}
    return {
        "openapi": "3.1.0",
        "jsonSchemaDialect": DIALECT,
        "info": {
            "title": "Pribble",
            "version": __version__,
            "description": "Events, and the messages that they mean; templates, filled.",
        },
        "paths": paths,
        "components": components,
        **({"security": [{"token": []}]} if has_token else {}),
    }


def _operation(route: Route, *, has_token: bool) -> dict[str, Any]:
    named = re.findall(r"\{(\w+)\}", route.path)
    parameters = [
        *({"name": name, "in": "path", "required": True, "description": _PARAMETERS[name]} for name in named),
        *({"name": name, "in": "header", "description": words} for name, words in route.headers.items()),
    ]
    by_status: dict[int, list[str]] = {}
    for kind in route.all_problems:
        if kind != "unauthorized" or has_token:
            by_status.setdefault(PROBLEM_KINDS[kind].status, []).append(kind)
    responses = {
        **{str(status): _answer(answer) for status, answer in route.answers.items()},
        **{str(status): _problem(kinds) for status, kinds in sorted(by_status.items())},
    }
    operation: dict[str, Any] = {"operationId": route.name, "summary": route.words, "responses": responses}
    if parameters:
        operation["parameters"] = [{**one, "schema": _TEXT} for one in parameters]
    if route.body:
        operation["requestBody"] = {"required": True, "content": {JSON: {"schema": _reference(route.body)}}}
    return operation


def _answer(answer: Answer) -> dict[str, Any]:
    is_json = {kind: kind.endswith("json") for kind in answer.types}
    content = {kind: {"schema": _reference(answer.schema) if is_json[kind] else _TEXT} for kind in answer.types}
    location = {"Location": {"description": "where to ask what became of it", "schema": _TEXT}}
    return {"description": answer.words, "content": content, **({"headers": location} if answer.location else {})}


def _problem(kinds: Sequence[str]) -> dict[str, Any]:
    words = "; ".join(f"{kind}: {PROBLEM_KINDS[kind].title}" for kind in kinds)
    return {"description": words, "content": {PROBLEM_TYPE: {"schema": _reference("Problem")}}}


def _reference(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/schemas/{name}"}
