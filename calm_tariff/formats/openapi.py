"""OpenAPI 2.0, 3.0 and 3.1 documents: the operations they describe, and what is wrong with them.

Only what selling needs is read: methods on paths, their words and groups. The document is kept whole
beside it. Local references are followed; remote ones are refused with their place, for nothing is
fetched. A finding either leaves a part out, or says what is doubtful about a part that is taken.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Literal

from calm_tariff.core.errors import Invalid

METHODS = ("get", "put", "post", "delete", "options", "head", "patch")
MOST_OPERATIONS = 2000
LONGEST_PATH = 200
_TEMPLATE = re.compile(r"\{([^{}/]*)\}")
_FINDINGS = 500
# Objects whose keys are anybody's names, so that a property may be called `default`.
_NAME_MAPS = frozenset({"properties", "patternProperties", "definitions", "schemas", "$defs", "paths", "responses"})
_SAMPLES = frozenset({"example", "examples", "default", "enum", "const"})

Weight = Literal["left out", "doubtful"]
Progress = Callable[[int, int], None]


@dataclass(frozen=True, slots=True)
class Finding:
    """What is wrong, and where: a JSON pointer into the document."""

    weight: Weight
    where: str
    what: str


@dataclass(frozen=True, slots=True)
class Described:
    """An operation that can be taken."""

    method: str
    path: str
    summary: str
    groups: tuple[str, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Description:
    """All that was found in a document. `dialect` is the OpenAPI version it says."""

    dialect: str
    title: str
    version: str
    servers: tuple[str, ...]
    operations: tuple[Described, ...]
    findings: tuple[Finding, ...]


def describe(document: Any, progress: Progress = lambda done, total: None) -> Description:
    """Read a document. Raises `Invalid` where it is no OpenAPI document at all; `progress` may raise to stop."""
    if not isinstance(document, dict):
        raise Invalid("is not an OpenAPI document: it must be an object at its top")
    dialect = _dialect(document)
    return _Reader(document, dialect, progress).read()


def _dialect(document: dict[str, Any]) -> str:
    said = document.get("openapi", document.get("swagger"))
    if isinstance(said, int | float):
        said = str(said)
    if not isinstance(said, str):
        raise Invalid("is not an OpenAPI document: it says neither `openapi` nor `swagger`", "/openapi")
    if "swagger" in document and said == "2.0":
        return "2.0"
    found = re.match(r"3\.[01](?=\.|$)", said)
    if "openapi" in document and found:
        return found.group()
    raise Invalid(f"is OpenAPI {said}; 2.0, 3.0 and 3.1 can be read", "/openapi")


class _Reader:
    """One pass over one document."""

    def __init__(self, document: dict[str, Any], dialect: str, progress: Progress) -> None:
        self.document, self.dialect, self.progress = document, dialect, progress
        self.findings: list[Finding] = []
        self.operations: dict[tuple[str, str], Described] = {}
        self.ids: dict[str, str] = {}
        self.shapes: dict[tuple[str, str], str] = {}
        self.total = 0

    def read(self) -> Description:
        info = self.document.get("info")
        if not isinstance(info, dict):
            self.doubt("/info", "must be an object with a title and a version")
            info = {}
        paths = self.document.get("paths", {})
        if not isinstance(paths, dict):
            raise Invalid("must be an object of paths", "/paths")
        self.total = sum(1 for item in paths.values() if isinstance(item, dict) for m in METHODS if m in item)
        self.progress(0, self.total)
        for path, item in paths.items():
            if not path.startswith("x-"):
                self.path_item(path, item)
        self.progress(self.total, self.total)
        self.elsewhere()
        if len(self.operations) > MOST_OPERATIONS:
            raise Invalid(f"describes {len(self.operations):,} operations; at most {MOST_OPERATIONS:,} fit", "/paths")
        return Description(
            dialect=self.dialect,
            title=self.word(info.get("title")),
            version=self.word(info.get("version")),
            servers=tuple(_servers(self.document)),
            operations=tuple(self.operations.values()),
            findings=tuple(self.findings[:_FINDINGS]),
        )

    def leave_out(self, where: str, what: str) -> None:
        self.findings.append(Finding("left out", where, what))

    def doubt(self, where: str, what: str) -> None:
        self.findings.append(Finding("doubtful", where, what))

    @staticmethod
    def word(value: Any) -> str:
        return str(value)[:200] if isinstance(value, str | int | float) and not isinstance(value, bool) else ""

    def path_item(self, path: str, item: Any) -> None:
        at = f"/paths/{_escaped(path)}"
        item = self.followed(item, at)
        if item is None:
            return
        trouble = _path_trouble(path)
        if trouble:
            self.leave_out(at, trouble)
            return
        shared = self.parameters(item.get("parameters"), f"{at}/parameters")
        if "servers" in item:
            self.doubt(f"{at}/servers", "names servers of its own; calls go to the back end of the version")
        if "trace" in item:
            self.leave_out(f"{at}/trace", "TRACE is not served")
        for method in METHODS:
            if method in item:
                self.operation(method, path, item[method], f"{at}/{method}", shared)

    def operation(self, method: str, path: str, operation: Any, at: str, shared: set[str]) -> None:
        if len(self.operations) % 50 == 0:
            self.progress(len(self.operations), self.total)
        if not isinstance(operation, dict):
            self.leave_out(at, f"must be an object, not {_kind(operation)}")
            return
        # Two paths may name the same place with other names of its parameters; each method is at one of them.
        shape = method, _TEMPLATE.sub("{}", path)
        if shape in self.shapes:
            self.leave_out(at, f"leads to the same place as {method.upper()} {self.shapes[shape]}")
            return
        remote = next(_remote_references(operation, at), None)
        if remote:
            self.leave_out(remote[0], f"refers to {remote[1]}, which lies outside the document and is not fetched")
            return
        self.shapes[shape] = path
        named = self.word(operation.get("operationId"))
        if named and named in self.ids:
            self.doubt(f"{at}/operationId", f"{named!r} is also the name of {self.ids[named]}")
        elif named:
            self.ids[named] = f"{method.upper()} {path}"
        if "servers" in operation:
            self.doubt(f"{at}/servers", "names servers of its own; calls go to the back end of the version")
        declared = shared | self.parameters(operation.get("parameters"), f"{at}/parameters")
        missing = [name for name in _TEMPLATE.findall(path) if name not in declared]
        if missing:
            self.doubt(f"{at}/parameters", f"does not describe {', '.join(missing)} of its path")
        groups = self.groups(operation.get("tags"), f"{at}/tags")
        summary = operation.get("summary") or operation.get("description") or named
        words = self.word(summary).strip().split("\n")[0]
        self.operations[method.upper(), path] = Described(method.upper(), path, words, groups)

    def groups(self, tags: Any, at: str) -> tuple[str, ...]:
        if tags is None:
            return ()
        if not isinstance(tags, list) or not all(isinstance(tag, str) for tag in tags):
            self.doubt(at, "must be a list of words")
            return ()
        if len(set(tags)) < len(tags):
            self.doubt(at, "names a tag twice")
        return tuple(dict.fromkeys(tag.strip()[:60] for tag in tags if tag.strip()))

    def parameters(self, value: Any, at: str) -> set[str]:
        """The names of the path's parameters that are described."""
        if value is None:
            return set()
        if not isinstance(value, list):
            self.doubt(at, f"must be a list, not {_kind(value)}")
            return set()
        found = set()
        for place, parameter in enumerate(value):
            parameter = self.followed(parameter, f"{at}/{place}", "doubtful")
            if parameter and parameter.get("in") == "path" and isinstance(parameter.get("name"), str):
                found.add(parameter["name"])
        return found

    def followed(self, value: Any, at: str, weight: Weight = "left out") -> dict[str, Any] | None:
        """The object a value is or refers to; None, with a finding, where there is none."""
        seen: set[str] = set()
        while isinstance(value, dict) and isinstance(value.get("$ref"), str):
            reference = value["$ref"]
            if not reference.startswith("#"):
                what = f"refers to {reference}, which lies outside the document and is not fetched"
                self.findings.append(Finding(weight, f"{at}/$ref", what))
                return None
            if reference in seen:
                self.findings.append(Finding(weight, f"{at}/$ref", f"{reference} refers back to itself"))
                return None
            seen.add(reference)
            value = resolve(self.document, reference)
            if value is None:
                self.findings.append(Finding(weight, f"{at}/$ref", f"{reference} is not in the document"))
                return None
        if not isinstance(value, dict):
            self.findings.append(Finding(weight, at, f"must be an object, not {_kind(value)}"))
            return None
        return value

    def elsewhere(self) -> None:
        """What is not an operation that a caller can make, and references that lead nowhere."""
        hooks = self.document.get("webhooks")
        if isinstance(hooks, dict) and hooks:
            self.doubt("/webhooks", f"{len(hooks)} webhooks are calls the other way round; they are not sold")
        known: dict[str, bool] = {}
        for part in ("components", "definitions", "parameters", "responses"):
            for at, reference in _remote_references(self.document.get(part), f"/{part}"):
                self.doubt(at, f"refers to {reference}, which lies outside the document and is not fetched")
        for at, reference in references(self.document, ""):
            if not reference.startswith("#"):
                continue
            if reference not in known:
                known[reference] = resolve(self.document, reference) is not None
            if not known[reference]:
                self.doubt(at, f"{reference} is not in the document")
                known[reference] = True  # once is enough


def _path_trouble(path: str) -> str:
    if not path.startswith("/"):
        return "must begin with a slash"
    if len(path) > LONGEST_PATH:
        return f"is longer than {LONGEST_PATH} characters"
    bare = _TEMPLATE.sub("", path)
    if "{" in bare or "}" in bare:
        return "has a brace without its partner"
    if any(character in bare for character in "?#") or any(ord(c) < 33 for c in bare):
        return "has a character that no path can have"
    names = _TEMPLATE.findall(path)
    if "" in names:
        return "has a parameter without a name"
    if len(set(names)) < len(names):
        return "names a parameter twice"
    return ""


_PLACE = re.compile("[0-9]{1,9}")


def resolve(document: Any, reference: str) -> Any:
    """What a local reference (`#/a/b`) points to; None where nothing is there."""
    here = document
    for part in reference.removeprefix("#").split("/")[1:]:
        name = part.replace("~1", "/").replace("~0", "~")
        if "%" in name:
            name = _percent_decoded(name)
        if isinstance(here, dict):
            here = here.get(name)
        elif isinstance(here, list) and _PLACE.fullmatch(name) and int(name) < len(here):
            here = here[int(name)]
        else:
            return None
    return here


def _percent_decoded(name: str) -> str:
    return re.sub(r"%([0-9A-Fa-f]{2})", lambda m: chr(int(m.group(1), 16)), name)


def references(value: Any, at: str) -> Iterator[tuple[str, str]]:
    """Every reference below a value, with its place: `$ref`, and a discriminator's mapping.

    Sample data is passed over. Values met again through an alias are looked at once.
    """
    stack = [(value, at, False)]
    seen: set[int] = set()
    while stack:
        here, place, names = stack.pop()
        if isinstance(here, dict):
            if id(here) in seen:
                continue
            seen.add(id(here))
            reference = here.get("$ref")
            if isinstance(reference, str) and not names:
                yield f"{place}/$ref", reference
            discriminator = here.get("discriminator")
            if isinstance(discriminator, dict) and isinstance(discriminator.get("mapping"), dict):
                for word, target in discriminator["mapping"].items():
                    if isinstance(target, str) and target.startswith("#/"):
                        yield f"{place}/discriminator/mapping/{_escaped(word)}", target
            stack.extend(
                (inner, f"{place}/{_escaped(name)}", not names and name in _NAME_MAPS)
                for name, inner in here.items()
                if isinstance(inner, dict | list) and (names or name not in _SAMPLES)
            )
        elif isinstance(here, list):
            stack.extend((inner, f"{place}/{n}", False) for n, inner in enumerate(here))


def _remote_references(value: Any, at: str) -> Iterator[tuple[str, str]]:
    return (found for found in references(value, at) if not found[1].startswith("#"))


def _servers(document: dict[str, Any]) -> Iterator[str]:
    if isinstance(document.get("host"), str):
        schemes = document.get("schemes")
        scheme = schemes[0] if isinstance(schemes, list) and schemes else "https"
        base = document.get("basePath")
        yield f"{scheme}://{document['host']}{base if isinstance(base, str) and base != '/' else ''}"[:200]
    servers = document.get("servers")
    for server in servers if isinstance(servers, list) else []:
        if isinstance(server, dict) and isinstance(server.get("url"), str):
            url = server["url"]
            variables = server.get("variables")
            for name, variable in variables.items() if isinstance(variables, dict) else ():
                if isinstance(variable, dict):
                    url = url.replace(f"{{{name}}}", str(variable.get("default", "")))
            yield url[:200]


def _escaped(name: str) -> str:
    return name.replace("~", "~0").replace("/", "~1")


def _kind(value: Any) -> str:
    kinds = {dict: "an object", list: "a list", str: "text", bool: "true or false", type(None): "nothing"}
    return kinds.get(type(value), "a number")
