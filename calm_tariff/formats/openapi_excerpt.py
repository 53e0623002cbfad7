"""An OpenAPI document cut down to what is sold: these operations, and only what they refer to."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import yaml

from calm_tariff.formats.openapi import METHODS, references, resolve

# Where a document keeps what others refer to; 2.0 at its top, 3.x under components.
_SHARED = ("definitions", "parameters", "responses")


@dataclass(frozen=True, slots=True)
class Proofs:
    """How callers prove who they are: kinds of credentials (core.meters.CREDENTIALS), where keys stand, and where
    tokens come from."""

    kinds: Sequence[str]
    key_header: str
    key_query: str
    token_endpoint: str


def excerpt(
    document: dict[str, Any], sold: Iterable[tuple[str, str]], name: str, url: str, proofs: Proofs
) -> dict[str, Any]:
    """The document with the operations `sold` (METHOD, path), called `name`, served from `url`.

    Security becomes the credentials that the gateway takes, any one of them; callbacks stay, webhooks go.
    """
    wanted = set(sold)
    kept: dict[str, Any] = {}
    for path, item in _paths(document).items():
        here = {m: o for m, o in item.items() if m.upper() in {x for x, p in wanted if p == path} and m in METHODS}
        if here:
            for operation in here.values():
                operation.pop("security", None)
                operation.pop("servers", None)
            common = {k: v for k, v in item.items() if k not in (*METHODS, "trace", "servers", "$ref")}
            kept[path] = {**common, **here}
    result = {k: v for k, v in document.items() if k not in ("paths", "webhooks", "components", "security", *_SHARED)}
    result["info"] = {**(document.get("info") or {}), "title": name}
    result["paths"] = kept
    used = {tag for item in kept.values() for o in item.values() if isinstance(o, dict) for tag in o.get("tags") or ()}
    if isinstance(document.get("tags"), list):
        result["tags"] = [t for t in document["tags"] if isinstance(t, dict) and t.get("name") in used]
    _bring_along(document, result)
    _serve_from(result, url, proofs)
    return result


def sketch(name: str, version: str, operations: Iterable[tuple[str, str, str, tuple[str, ...]]]) -> dict[str, Any]:
    """A document for operations typed by hand: (METHOD, path, summary, groups)."""
    paths: dict[str, Any] = {}
    for method, path, summary, groups in operations:
        parameters = [
            {"name": part.split("}")[0], "in": "path", "required": True, "schema": {"type": "string"}}
            for part in path.split("{")[1:]
        ]
        paths.setdefault(path, {})[method.lower()] = {
            "summary": summary,
            "tags": list(groups),
            "parameters": parameters,
            "responses": {"default": {"description": "As the back end answers."}},
        }
    return {"openapi": "3.1.0", "info": {"title": name, "version": version}, "paths": paths}


def as_yaml(document: dict[str, Any]) -> str:
    """A document as YAML, in its own order; no part of it is an alias of another."""
    return yaml.dump(document, Dumper=_Plain, sort_keys=False, allow_unicode=True)


class _Plain(getattr(yaml, "CSafeDumper", yaml.SafeDumper)):  # type: ignore[misc]
    """Written out in full: few readers of OpenAPI follow aliases."""

    def ignore_aliases(self, data: Any) -> bool:
        return True


def _paths(document: dict[str, Any]) -> dict[str, dict[str, Any]]:
    """Path items with references followed, copied one level deep."""
    found = {}
    for path, item in (document.get("paths") or {}).items():
        seen = 0
        while isinstance(item, dict) and isinstance(item.get("$ref"), str) and seen < 10:
            item, seen = resolve(document, item["$ref"]), seen + 1
        if isinstance(item, dict):
            found[path] = {k: dict(v) if isinstance(v, dict) else v for k, v in item.items()}
    return found


def _bring_along(document: dict[str, Any], result: dict[str, Any]) -> None:
    """Copy what the kept paths refer to, and what that refers to."""
    waiting = [reference for _, reference in references(result["paths"], "")]
    seen: set[str] = set()
    while waiting:
        reference = waiting.pop()
        if reference in seen or not reference.startswith("#/"):
            continue
        seen.add(reference)
        parts = reference[2:].split("/")
        depth = 3 if parts[0] == "components" else 2
        if parts[0] not in ("components", *_SHARED) or len(parts) < depth:
            continue
        target = resolve(document, "#/" + "/".join(parts[:depth]))
        if target is None:
            continue
        place = result
        for part in parts[: depth - 1]:
            place = place.setdefault(part, {})
        place[parts[depth - 1].replace("~1", "/").replace("~0", "~")] = target
        waiting.extend(reference for _, reference in references(target, ""))


def _serve_from(result: dict[str, Any], url: str, proofs: Proofs) -> None:
    old = "swagger" in result
    schemes = _schemes_2_0(proofs) if old else _schemes(proofs)
    if "certificate" in proofs.kinds and str(result.get("openapi", "")).startswith("3.1"):
        schemes["clientCertificate"] = {"type": "mutualTLS"}  # OpenAPI knows it since 3.1
    result["security"] = [{name: []} for name in schemes]
    if old:
        protocol, _, rest = url.partition("://")
        host, slash, base = rest.partition("/")
        result |= {"schemes": [protocol], "host": host, "basePath": f"{slash}{base}" or "/"}
        result["securityDefinitions"] = schemes
        return
    result["servers"] = [{"url": url}]
    result.setdefault("components", {})["securitySchemes"] = schemes


def _keys(proofs: Proofs) -> dict[str, Any]:
    found = {"apiKey": {"type": "apiKey", "in": "header", "name": proofs.key_header}}
    if proofs.key_query:
        found["apiKeyInQuery"] = {"type": "apiKey", "in": "query", "name": proofs.key_query}
    return found


def _schemes(proofs: Proofs) -> dict[str, Any]:
    """Security schemes of OpenAPI 3.x."""
    known: dict[str, dict[str, Any]] = {
        "key": _keys(proofs),
        "basic": {"basic": {"type": "http", "scheme": "basic"}},
        "client": {
            "clientCredentials": {
                "type": "oauth2",
                "flows": {"clientCredentials": {"tokenUrl": proofs.token_endpoint, "scopes": {}}},
            }
        },
        "token": {"issuerToken": {"type": "http", "scheme": "bearer", "bearerFormat": "JWT"}},
    }
    return {name: scheme for kind in proofs.kinds for name, scheme in known.get(kind, {}).items()}


def _schemes_2_0(proofs: Proofs) -> dict[str, Any]:
    """Security definitions of 2.0, which knows bearer tokens as a header alone."""
    known: dict[str, dict[str, Any]] = {
        "key": _keys(proofs),
        "basic": {"basic": {"type": "basic"}},
        "client": {
            "clientCredentials": {
                "type": "oauth2",
                "flow": "application",
                "tokenUrl": proofs.token_endpoint,
                "scopes": {},
            }
        },
        "token": {"issuerToken": {"type": "apiKey", "in": "header", "name": "Authorization"}},
    }
    return {name: scheme for kind in proofs.kinds for name, scheme in known.get(kind, {}).items()}
