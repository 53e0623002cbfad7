"""One operation of an OpenAPI document (2.0, 3.0, 3.1) as people read it: what is sent, what comes back, and how each
is made up. References are followed within the document (`referencing`); one that leads back to itself is named and not
unfolded again."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import orjson
from referencing import Registry, Resource, Specification
from referencing.exceptions import Unresolvable

from calm_tariff.formats import openapi_samples as samples
from calm_tariff.formats.json_values import as_list, as_object
from calm_tariff.formats.markdown import html

_HERE = "urn:this"
# So deep, and so many parts, are shown of one operation.
DEPTH = 10
MOST_NODES = 2000
MOST_SEARCHED = 200
LONGEST = 4000
_BESIDE = ("description", "deprecated", "default", "example", "examples")
_TAG = re.compile(r"<[^>]*>")
_BOUNDS = (
    ("minimum", "at least {}"),
    ("maximum", "at most {}"),
    ("exclusiveMinimum", "more than {}"),
    ("exclusiveMaximum", "less than {}"),
    ("multipleOf", "a multiple of {}"),
    ("minLength", "at least {} characters"),
    ("maxLength", "at most {} characters"),
    ("pattern", "matching {}"),
    ("minItems", "at least {} items"),
    ("maxItems", "at most {} items"),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Node:
    """A value: its name where it has one, its type in words, what is said of it (HTML), and what it may be. `parts` are
    the properties of an object, the item of a list, or the choices of one of several."""

    name: str
    type: str
    required: bool
    deprecated: bool
    description: str
    rules: list[str]
    choices: list[str]
    default: str | None
    example: str | None
    parts: list[Node]


@dataclass(frozen=True, slots=True, kw_only=True)
class Parameter:
    """A parameter of a call: where it stands (path, query, header, cookie), and its value. `sample` is what a call can
    begin with; a list is sent as one name with each value where it `repeats`, and otherwise with commas."""

    place: str
    value: Node
    sample: str
    repeats: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Body:
    """A body of one media type: its schema where there is one, an example as it is given, and for a call's what it can
    begin with."""

    media_type: str
    schema: Node | None
    example: str | None
    sample: str | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class Answer:
    """An answer by its status (or `default`)."""

    status: str
    description: str
    headers: list[Node]
    bodies: list[Body]


@dataclass(frozen=True, slots=True, kw_only=True)
class Reference:
    """What a document says of an operation; descriptions are HTML."""

    description: str
    deprecated: bool
    parameters: list[Parameter]
    body_required: bool
    bodies: list[Body]
    answers: list[Answer]


def reference_of(document: Any, method: str, path: str) -> Reference | None:
    """What a document says of an operation; None where it says nothing of it."""
    return _Reader(document).operation(method.lower(), path)


def deprecated(document: Any, method: str, path: str) -> bool:
    """Whether a document says that an operation is to be used no more."""
    return _Reader(document).raw(method.lower(), path)[1].get("deprecated") is True


def words_of(document: Any, method: str, path: str) -> str:
    """What can be searched of an operation, in small letters, without its path and summary."""
    found = _Reader(document, MOST_SEARCHED).operation(method.lower(), path)
    if found is None:
        return ""

    def names(node: Node | None) -> Iterator[str]:
        if node is not None:
            yield f"{node.name} {node.description} {' '.join(node.choices)}"
            for part in node.parts:
                yield from names(part)

    said = [found.description]
    for parameter in found.parameters:
        said += names(parameter.value)
    for answer in found.answers:
        said.append(answer.description)
    for body in (*found.bodies, *(body for answer in found.answers for body in answer.bodies)):
        said += names(body.schema)
    return " ".join(_TAG.sub(" ", " ".join(said)).split()).lower()


class _Reader:
    """A document being read for one operation."""

    def __init__(self, document: Any, most: int = MOST_NODES) -> None:
        self.most = most
        self.document = document if isinstance(document, dict) else {}
        resource: Resource[Any] = Specification.OPAQUE.create_resource(self.document)
        self.resolver = Registry().with_resource(_HERE, resource).resolver(_HERE)
        self.nodes = 0

    def followed(self, value: Any) -> tuple[dict[str, Any], str | None]:
        """What a value stands for, and the reference that led there, if one did. Empty where nothing is there."""
        last = None
        for _ in range(DEPTH):
            if not isinstance(value, dict):
                return {}, last
            pointer = value.get("$ref")
            if not isinstance(pointer, str):
                return value, last
            try:
                value, last = self.resolver.lookup(pointer).contents, pointer
            except Unresolvable:
                return {}, pointer
        return {}, last

    def raw(self, method: str, path: str) -> tuple[dict[str, Any], dict[str, Any]]:
        """A path's item and the operation in it; empty where they are not there."""
        item, _ = self.followed(as_object(self.document.get("paths")).get(path))
        return item, as_object(item.get(method))

    def operation(self, method: str, path: str) -> Reference | None:
        item, operation = self.raw(method, path)
        if not operation:
            return None
        given: dict[tuple[str, str], dict[str, Any]] = {}
        for one in (*as_list(item.get("parameters")), *as_list(operation.get("parameters"))):
            parameter, _ = self.followed(one)
            given[str(parameter.get("in")), str(parameter.get("name"))] = parameter
        bodies = self.bodies_of(operation, given)
        request, _ = self.followed(operation.get("requestBody"))
        in_body = [p for (place, _), p in given.items() if place == "body"]
        return Reference(
            description=_prose(operation.get("description")),
            deprecated=operation.get("deprecated") is True,
            parameters=[
                self.sent(place, name, parameter)
                for (place, name), parameter in given.items()
                if place in ("path", "query", "header", "cookie")
            ],
            body_required=request.get("required") is True or any(p.get("required") is True for p in in_body),
            bodies=bodies,
            answers=self.answers(operation),
        )

    def sent(self, place: str, name: str, given: dict[str, Any]) -> Parameter:
        """A parameter of a call. Lists repeat their name in a query unless something else is said (3.x), and have
        commas unless they are to be `multi` (2.0)."""
        value = self.parameter(name, given)
        schema = given.get("schema", given)
        start = self.stated(given)
        if start is None:
            start = self.sample(schema, name)
        whole, _ = self.followed(schema)
        several = "items" in whole or whole.get("type") == "array"
        old = "schema" not in given and "content" not in given
        spread = given.get("collectionFormat") == "multi" if old else given.get("explode", True) is True
        listed = start if isinstance(start, list) else [start]
        text = ",".join(_whole(one) for one in listed if one is not None)
        return Parameter(place=place, value=value, sample=text, repeats=several and spread and place == "query")

    def sample(self, schema: Any, name: str = "") -> Any:
        return samples.sample(schema, lambda one: self.followed(one)[0], name)

    def begun(self, media: dict[str, Any]) -> str | None:
        """What a body can begin with: never cut, or it could not be sent."""
        stated = self.stated(media)
        start = self.sample(media["schema"]) if stated is None and "schema" in media else stated
        return None if start is None else _whole(start)

    def parameter(self, name: str, given: dict[str, Any]) -> Node:
        schema = given.get("schema", given)  # 2.0 has the type beside the name
        required = given.get("required") is True or given.get("in") == "path"
        value = self.node(name, schema, required=required)
        return Node(
            name=name,
            type=value.type,
            required=required,
            deprecated=given.get("deprecated") is True,
            description=_prose(given.get("description")) or value.description,
            rules=value.rules,
            choices=value.choices,
            default=value.default,
            example=self.example(given) or value.example,
            parts=value.parts,
        )

    def bodies_of(self, operation: dict[str, Any], given: Mapping[tuple[str, str], dict[str, Any]]) -> list[Body]:
        request, _ = self.followed(operation.get("requestBody"))
        if request:
            return self.bodies(request, sent=True)
        form = {name: p for (place, name), p in given.items() if place == "formData"}
        kinds = [str(kind) for kind in as_list(operation.get("consumes") or self.document.get("consumes"))]
        if form:
            required = [name for name, p in form.items() if p.get("required") is True]
            fields = {"type": "object", "properties": form, "required": required}
            kind = next((k for k in kinds if "form" in k), "application/x-www-form-urlencoded")
            start = self.begun({"schema": fields})
            return [Body(media_type=kind, schema=self.node("", fields), example=None, sample=start)]
        for (place, _), p in given.items():
            if place == "body":
                schema, start = self.node("", p.get("schema")), self.begun(p)
                types = kinds or ["application/json"]
                return [Body(media_type=kind, schema=schema, example=None, sample=start) for kind in types]
        return []

    def bodies(self, given: dict[str, Any], sent: bool = False) -> list[Body]:
        content = given.get("content")
        found = []
        for kind, media in content.items() if isinstance(content, dict) else ():
            media, _ = self.followed(media)
            schema = self.node("", media["schema"]) if "schema" in media else None
            start = self.begun(media) if sent else None
            found.append(Body(media_type=str(kind), schema=schema, example=self.example(media), sample=start))
        return found

    def answers(self, operation: dict[str, Any]) -> list[Answer]:
        responses = operation.get("responses")
        found = []
        for status, one in responses.items() if isinstance(responses, dict) else ():
            answer, _ = self.followed(one)
            bodies = self.bodies(answer)
            if not bodies and ("schema" in answer or "examples" in answer):  # 2.0
                shown = as_object(answer.get("examples"))
                kinds = as_list(operation.get("produces") or self.document.get("produces")) or list(shown)
                schema = self.node("", answer["schema"]) if "schema" in answer else None
                bodies = [
                    Body(media_type=str(k), schema=schema, example=_text(shown[k]) if k in shown else None)
                    for k in kinds or ["application/json"]
                ]
            headers = answer.get("headers")
            found.append(
                Answer(
                    status=str(status),
                    description=_prose(answer.get("description")),
                    headers=[
                        self.parameter(str(name), self.followed(header)[0])
                        for name, header in (headers.items() if isinstance(headers, dict) else ())
                    ],
                    bodies=bodies,
                )
            )
        return found

    def example(self, given: dict[str, Any]) -> str | None:
        """The first example that is given beside a schema, as it is shown."""
        stated = self.stated(given)
        return None if stated is None else _text(stated)

    def stated(self, given: dict[str, Any]) -> Any:
        """The first example that is given beside a schema, as it is; None where there is none."""
        for key in ("example", "x-example"):
            if key in given:
                return given[key]
        several = (self.followed(one)[0] for one in as_object(given.get("examples")).values())
        return next((one["value"] for one in several if "value" in one), None)

    def node(self, name: str, given: Any, required: bool = False, above: tuple[str, ...] = ()) -> Node:
        """A schema as a value with its parts. `above` are the references that are being unfolded."""
        self.nodes += 1
        schema, pointer = self.followed(given)
        if pointer is not None:  # since 3.1, words beside a reference speak of this place
            schema = {**schema, **{key: given[key] for key in _BESIDE if key in given}}
        again = pointer is not None and pointer in above
        if pointer is not None:
            above = (*above, pointer)
        unfolds = not again and len(above) < DEPTH and self.nodes < self.most
        schema = self.merged(schema, above) if unfolds else schema
        parts = self.parts(schema, above) if unfolds else []
        called = pointer.rpartition("/")[2] if pointer else ""
        examples = as_list(schema.get("examples"))
        return Node(
            name=name,
            type=self.type_of(schema, called),
            required=required,
            deprecated=schema.get("deprecated") is True,
            description=_prose(schema.get("description")),
            rules=[words.format(_text(schema[key])) for key, words in _BOUNDS if _is_bound(schema.get(key))],
            choices=[_text(value) for value in as_list(schema.get("enum"))]
            or ([_text(schema["const"])] if "const" in schema else []),
            default=_text(schema["default"]) if "default" in schema else None,
            example=self.example(schema) or (_text(examples[0]) if examples else None),
            parts=parts,
        )

    def merged(self, schema: dict[str, Any], above: tuple[str, ...]) -> dict[str, Any]:
        """A schema of which all of several hold, as one."""
        several = as_list(schema.get("allOf"))
        if not several:
            return schema
        whole: dict[str, Any] = {}
        for one in (*several, {key: value for key, value in schema.items() if key != "allOf"}):
            part, pointer = self.followed(one)
            if pointer is not None and pointer in above:
                continue
            part = self.merged(part, (*above, pointer) if pointer else above)
            properties = {**as_object(whole.get("properties")), **as_object(part.get("properties"))}
            needed = [*as_list(whole.get("required")), *as_list(part.get("required"))]
            whole = {**whole, **part, "properties": properties, "required": needed}
        return whole

    def parts(self, schema: dict[str, Any], above: tuple[str, ...]) -> list[Node]:
        needed = {str(name) for name in as_list(schema.get("required"))}
        found = [
            self.node(str(name), part, required=str(name) in needed, above=above)
            for name, part in as_object(schema.get("properties")).items()
        ]
        extra = schema.get("additionalProperties")
        if isinstance(extra, dict) and extra:
            found.append(self.node("any other name", extra, above=above))
        if "items" in schema:
            found.append(self.node("each", schema["items"], above=above))
        for key in ("oneOf", "anyOf"):
            for place, one in enumerate(as_list(schema.get(key))):
                found.append(self.node("or" if place else "either", one, above=above))
        return found

    def type_of(self, schema: dict[str, Any], called: str) -> str:
        kinds = schema.get("type")
        names = [str(kind) for kind in (kinds if isinstance(kinds, list) else [kinds]) if kind]
        if not names and ("properties" in schema or "allOf" in schema):
            names = ["object"]
        if not names and any(key in schema for key in ("oneOf", "anyOf")):
            names = ["one of several"]
        if schema.get("nullable") is True:
            names.append("null")
        words = " or ".join(names) or called or "any"
        if "items" in schema:
            item, pointer = self.followed(schema["items"])
            of = pointer.rpartition("/")[2] if pointer else self.type_of(item, "")
            words = f"list of {of}"
        elif called and names == ["object"]:
            words = called
        told = "binary" if samples.is_file(schema) else schema.get("format")
        return f"{words}, {told}" if isinstance(told, str) else words


def _is_bound(value: Any) -> bool:
    """Whether a bound is said; 3.0 and 2.0 say of some only that they are exclusive."""
    return isinstance(value, int | float | str) and not isinstance(value, bool)


def _prose(text: Any) -> str:
    return html(text) if isinstance(text, str) and text.strip() else ""


def _text(value: Any) -> str:
    """A value as it is shown: as it would be sent, cut where it is long."""
    whole = _whole(value)
    return whole if len(whole) <= LONGEST else f"{whole[:LONGEST]}…"


def _whole(value: Any) -> str:
    """A value as it would be sent: text as it is, all else as JSON."""
    if isinstance(value, str):
        return value
    return orjson.dumps(value, option=orjson.OPT_NON_STR_KEYS, default=str).decode()
