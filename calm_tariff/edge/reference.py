"""The reference of an API of ours: a page made from its OpenAPI document, without a script and with nothing from
elsewhere."""

from __future__ import annotations

from collections.abc import Iterator
from html import escape
from typing import Any

from fastapi import FastAPI
from fastapi.responses import HTMLResponse

from calm_tariff.edge.pages import security

_METHODS = ("get", "post", "put", "patch", "delete")
_STYLE = """
:root{color-scheme:light dark;--paper:#f6f3ec;--line:#ddd6c8;--ink:#1e2b2a;--soft:#5c6865;--kelp:#1d5c4d}
@media(prefers-color-scheme:dark){:root{--paper:#171d1d;--line:#3a4443;--ink:#e9e5da;--soft:#a9b2ae;--kelp:#7fc4ad}}
body{background:var(--paper);color:var(--ink);font:14px/1.5 system-ui,sans-serif;margin:0 auto;max-width:1100px;
padding:24px 28px 80px;display:grid;grid-template-columns:180px minmax(0,1fr);gap:0 40px}
header{grid-column:1/3}h1,h2{font-family:Georgia,serif;font-weight:500}h1{font-size:26px;margin:0}
h2{font-size:19px;margin:28px 0 0;border-bottom:1px solid var(--line);padding-bottom:4px}
nav{position:sticky;top:0;align-self:start;max-height:100vh;overflow:auto;padding:28px 0}
nav a{display:block;padding:2px 0}
a{color:var(--kelp);text-decoration:none}a:hover{text-decoration:underline}p{margin:4px 0}.soft{color:var(--soft)}
details{border-bottom:1px solid var(--line)}
summary{cursor:pointer;padding:6px 0 6px 15px;text-indent:-15px;overflow-wrap:anywhere}
summary b,code{font:13px ui-monospace,monospace}.in{padding:0 0 10px 16px}
table{border-collapse:collapse;width:100%}th{font-weight:500;color:var(--soft);text-align:left}
td,th{padding:3px 12px 3px 0;vertical-align:top;border-top:1px solid var(--line)}
"""


def serve(app: FastAPI, credential: str) -> None:
    """Have an application answer its reference at /docs. `credential` says in words how a caller is known."""
    made: list[str] = []

    @app.get("/docs", include_in_schema=False, response_class=HTMLResponse)
    def reference() -> HTMLResponse:
        """The reference as a page."""
        if not made:
            made.append(page(app.openapi(), credential))  # once: it changes with the product alone
        return HTMLResponse(made[0], headers=security())


def page(document: dict[str, Any], credential: str) -> str:
    """An OpenAPI 3.1 document as one HTML page: operations by their tags, then the shapes they speak of."""
    groups: dict[str, list[str]] = {}
    for path, item in document["paths"].items():
        for method in _METHODS:
            if method in item:
                for tag in item[method].get("tags") or ["operations"]:
                    groups.setdefault(tag, []).append(_operation(method, path, item[method]))
    shapes = document.get("components", {}).get("schemas", {})
    title = escape(document["info"]["title"])
    nav = "".join(
        f'<a href="#{_anchor(g)}">{escape(g)} <span class=soft>{len(o)}</span></a>' for g, o in groups.items()
    )
    body = "".join(f'<h2 id="{_anchor(g)}">{escape(g[:1].upper() + g[1:])}</h2>{"".join(o)}' for g, o in groups.items())
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><meta name=viewport content='width=device-width'>"
        f"<title>{title}: reference</title><style>{_STYLE}</style><header><h1>{title}</h1>"
        f"<p>{escape(credential)} What is wrong is answered as problem details (RFC 9457). "
        f"The same as <a href=openapi.json>OpenAPI document</a>.</p></header>"
        f"<nav aria-label=Contents>{nav}<a href=#shapes>shapes <span class=soft>{len(shapes)}</span></a></nav>"
        f"<main>{body}<h2 id=shapes>Shapes</h2>{''.join(_shape(n, s) for n, s in shapes.items())}</main></html>"
    )


def _operation(method: str, path: str, operation: dict[str, Any]) -> str:
    words = escape(operation.get("description") or operation.get("summary") or "")
    rows = [
        (p["name"], _kind(p.get("schema", {})), f"in the {escape(p['in'])}", bool(p.get("required")))
        for p in operation.get("parameters", ())
    ]
    parts = [_table("Parameters", rows)] if rows else []
    for kind, media in operation.get("requestBody", {}).get("content", {}).items():
        parts.append(f"<p>Takes {_kind(media.get('schema', {}))} <span class=soft>{escape(kind)}</span></p>")
    for status, answer in operation.get("responses", {}).items():
        given = " or ".join(_kind(m["schema"]) for m in answer.get("content", {}).values() if m.get("schema"))
        if status != "422":
            parts.append(f"<p>Answers {escape(status)}{f' with {given}' if given else ''}</p>")
    return (
        f"<details><summary><b>{method.upper()} {escape(path)}</b> <span class=soft>{words}</span></summary>"
        f"<div class=in>{''.join(parts)}</div></details>"
    )


def _shape(name: str, schema: dict[str, Any]) -> str:
    required = set(schema.get("required", ()))
    rows = [
        (field, _kind(inner), escape(inner.get("description", "")), field in required)
        for field, inner in schema.get("properties", {}).items()
    ]
    listed = _table("Fields", rows) if rows else f"<p>{_kind(schema)}</p>"
    words = escape(schema.get("description", "").split("\n\n")[0])
    return (
        f"<details><summary><b>{escape(name)}</b> <span class=soft>{words}</span></summary>"
        f'<div class=in id="{_anchor(name)}">{listed}</div></details>'
    )


def _table(title: str, rows: list[tuple[str, str, str, bool]]) -> str:
    lines = "".join(
        f"<tr><td><code>{escape(name)}</code></td><td>{kind}</td>"
        f"<td>{'needed' if needed else ''}</td><td>{words}</td></tr>"
        for name, kind, words, needed in rows
    )
    return f"<table><tr><th>{title}</th><th>kind</th><th></th><th></th></tr>{lines}</table>"


def _kind(schema: dict[str, Any]) -> str:
    """What a value is, in words; shapes lead to where they are described (a browser opens what it is led into)."""
    return " or ".join(dict.fromkeys(_kinds(schema))) or "anything"


def _kinds(schema: dict[str, Any]) -> Iterator[str]:
    if "$ref" in schema:
        name = schema["$ref"].rsplit("/", 1)[-1]
        yield f'<a href="#{_anchor(name)}">{escape(name)}</a>'
    for several in ("anyOf", "oneOf", "allOf"):
        for one in schema.get(several, ()):
            yield from _kinds(one)
    if "enum" in schema:
        yield ", ".join(f"“{escape(str(value))}”" for value in schema["enum"])
    elif "const" in schema:
        yield f"“{escape(str(schema['const']))}”"
    elif schema.get("type") == "array":
        yield f"list of {_kind(schema.get('items', {}))}"
    elif "type" in schema:
        form = schema.get("format")
        yield escape({"null": "nothing", "boolean": "true or false"}.get(schema["type"], form or schema["type"]))


def _anchor(name: str) -> str:
    return "s-" + "".join(c if c.isalnum() else "-" for c in name)
