"""Generated clients as packages that install: what is in them beside what generators make of an OpenAPI document."""

from __future__ import annotations

import io
import json
import re
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, get_args

from calm_tariff.core.errors import Invalid

Language = Literal["python", "typescript"]
LANGUAGES: tuple[Language, ...] = get_args(Language)
# What a TypeScript client calls with (npm), held against the front end's own by a test.
OPENAPI_FETCH = "0.17.0"
# Raised whenever what is made here changes: packages made before are then made anew.
EDITION = 1
_WHEN = (2020, 1, 1, 0, 0, 0)


@dataclass(frozen=True, slots=True, kw_only=True)
class ClientFacts:
    """What a client is of: a name of small letters, digits and dashes; what it is called; where it calls; the header
    that carries a key, empty where the product takes none; and headers that go with every call."""

    name: str
    title: str
    base: str
    key_header: str
    headers: Mapping[str, str] = field(default_factory=dict)

    @property
    def module(self) -> str:
        """The name of the Python module."""
        return self.name.replace("-", "_")


def package_name(*parts: str) -> str:
    """A name of what is sold and its version, as packages have."""
    name = re.sub(r"[^a-z0-9]+", "-", " ".join(parts).lower()).strip("-")[:60].strip("-")
    return name if name[:1].isalpha() else f"api-{name}".strip("-")


def refuse_older(document: Mapping[str, Any]) -> None:
    """Raise `Invalid` for a document of a kind that generators do not read."""
    version = str(document.get("openapi", document.get("swagger", "")))
    if not version.startswith("3."):
        raise Invalid(f"clients are made of OpenAPI 3 documents; this one is {version or 'of no version'}", "document")


def python_settings(facts: ClientFacts) -> str:
    """The generator's settings (openapi-python-client), as JSON, which is YAML, too."""
    named = {"project_name_override": facts.name, "package_name_override": facts.module, "post_hooks": []}
    return json.dumps(named)


def python_readme(facts: ClientFacts) -> str:
    """How a Python client is begun with."""
    headers = dict(facts.headers)
    if facts.key_header:
        begin = (
            f'AuthenticatedClient(\n    base_url="{facts.base}",\n    token="YOUR-KEY",\n    prefix="",\n'
            f'    auth_header_name="{facts.key_header}",\n' + (f"    headers={headers!r},\n" if headers else "") + ")"
        )
    else:
        begin = (
            f'AuthenticatedClient(\n    base_url="{facts.base}",\n    token="YOUR-TOKEN",\n'
            + (f"    headers={headers!r},\n" if headers else "")
            + ")"
        )
    return f"""# {facts.title}

A client, generated from the OpenAPI document. Install it:

    pip install ./{facts.name}

Begin:

```python
from {facts.module} import AuthenticatedClient

client = {begin}
```

Each operation is a module below `{facts.module}.api`, with `sync`, `sync_detailed`, `asyncio` and `asyncio_detailed`.
"""


def typescript_files(facts: ClientFacts) -> dict[str, str]:
    """The files of a TypeScript client beside its `schema.d.ts`: it needs no build."""
    manifest = {
        "name": facts.name,
        "version": "1.0.0",
        "description": facts.title,
        "type": "module",
        "exports": {".": {"types": "./index.d.ts", "default": "./index.js"}},
        "types": "./index.d.ts",
        "files": ["index.js", "index.d.ts", "schema.d.ts"],
        "dependencies": {"openapi-fetch": OPENAPI_FETCH},
    }
    return {
        "package.json": json.dumps(manifest, indent=2) + "\n",
        "index.js": _javascript(facts),
        "index.d.ts": _TYPES,
        "README.md": _typescript_readme(facts),
    }


def zipped(folder: str, files: Mapping[str, bytes]) -> bytes:
    """Files below a folder as a ZIP archive: the same for the same files."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in sorted(files):
            entry = zipfile.ZipInfo(f"{folder}/{name}", _WHEN)
            entry.compress_type, entry.external_attr = zipfile.ZIP_DEFLATED, 0o644 << 16
            archive.writestr(entry, files[name])
    return made.getvalue()


_TYPES = """import type { Client, ClientOptions } from "openapi-fetch";
import type { paths } from "./schema.js";

export type { components, operations, paths } from "./schema.js";

/** Where calls go. */
export declare const ADDRESS: string;

/** What proves who calls: a key, or what stands in the Authorization field. */
export type Proof = { key?: string; authorization?: string };

/** A client; options as of openapi-fetch. */
export declare function createClient(options?: ClientOptions & Proof): Client<paths>;
"""


def _javascript(facts: ClientFacts) -> str:
    headers = json.dumps(dict(facts.headers))
    return f"""import createFetchClient from "openapi-fetch";

export const ADDRESS = {json.dumps(facts.base)};
const KEY_HEADER = {json.dumps(facts.key_header)};
const ALWAYS = {headers};

export function createClient({{ key, authorization, ...options }} = {{}}) {{
  const client = createFetchClient({{ baseUrl: ADDRESS, ...options }});
  client.use({{
    onRequest({{ request }}) {{
      for (const [name, value] of Object.entries(ALWAYS)) request.headers.set(name, value);
      if (key) {{
        if (KEY_HEADER) request.headers.set(KEY_HEADER, key);
        else request.headers.set("Authorization", `Bearer ${{key}}`);
      }}
      if (authorization) request.headers.set("Authorization", authorization);
      return request;
    }},
  }});
  return client;
}}
"""


def _typescript_readme(facts: ClientFacts) -> str:
    proof = 'key: "YOUR-KEY"' if facts.key_header else 'authorization: "Bearer YOUR-TOKEN"'
    return f"""# {facts.title}

A typed client, generated from the OpenAPI document. Install it:

    npm install ./{facts.name}

Begin:

```ts
import {{ createClient }} from "{facts.name}";

const client = createClient({{ {proof} }});
```

`client.GET("/…")` and its like know each path, its parameters and its answers.
"""
