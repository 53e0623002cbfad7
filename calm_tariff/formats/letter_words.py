"""The words of letters as templates: those that ship with the product, and the provider's own.

Own words may fill in fields, say something only if a field is so, and repeat something for each of a list (Jinja):
nothing else of the language is taken, so that no template can do more than be read.
"""

from __future__ import annotations

import re
from functools import cache
from importlib import resources

from jinja2 import Environment, TemplateSyntaxError, meta, nodes
from jinja2.sandbox import SandboxedEnvironment

from calm_tariff.core.errors import Invalid
from calm_tariff.core.notices import Words

LONGEST = {"subject": 2_000, "text": 20_000, "html": 100_000}
FILTERS = frozenset({"capitalize", "default", "join", "lower", "title", "trim", "upper"})
_TAKEN = (
    nodes.Template,
    nodes.Output,
    nodes.TemplateData,
    nodes.Name,
    nodes.Const,
    nodes.Tuple,
    nodes.If,
    nodes.For,
    nodes.Filter,
    nodes.Compare,
    nodes.Operand,
    nodes.Not,
    nodes.And,
    nodes.Or,
)
_BLOCK = re.compile(r"{% block (subject|text) %}(.*?){% endblock %}", re.DOTALL)


@cache
def built_in(name: str) -> Words:
    """The words that ship with the product, by the name of their file."""
    source = resources.files("calm_tariff.formats").joinpath("notices", f"{name}.jinja").read_text("utf-8")
    blocks = dict(_BLOCK.findall(source))
    return Words(subject=blocks["subject"], text=blocks["text"].rstrip("\n") + "\n")


def fields_of(source: str) -> frozenset[str]:
    """The fields that a template speaks of. Raises `TemplateSyntaxError`."""
    return frozenset(meta.find_undeclared_variables(_bare().parse(source)))


def check(source: str, part: str, known: frozenset[str]) -> None:
    """Raise `Invalid`, naming the part and the line, for what is no template, does more than it may, or speaks of what
    is not known of this kind of notice."""
    if len(source) > LONGEST[part]:
        raise Invalid(f"must be at most {LONGEST[part]} characters long", part)
    try:
        tree = _bare().parse(source)
    except TemplateSyntaxError as error:
        raise Invalid(f"line {error.lineno}: {_plain(error.message or '')}", part) from None
    for node in tree.find_all(nodes.Node):
        if not isinstance(node, _TAKEN):
            raise Invalid(f"line {node.lineno}: fields, “if” and “for” are taken, and nothing else", part)
        if isinstance(node, nodes.Filter) and node.name not in FILTERS:
            raise Invalid(f"line {node.lineno}: must be one of {', '.join(sorted(FILTERS))}, not {node.name}", part)
        if isinstance(node, nodes.For) and not isinstance(node.iter, nodes.Name):
            raise Invalid(f"line {node.lineno}: only what a field holds can be repeated", part)
    unknown = sorted(meta.find_undeclared_variables(tree) - known)
    if unknown:
        line = min(n.lineno for n in tree.find_all(nodes.Name) if n.name == unknown[0])
        raise Invalid(f"line {line}: there is no {unknown[0][:40]} here, but {', '.join(sorted(known))}", part)


@cache
def _bare() -> Environment:
    return SandboxedEnvironment()


def _plain(words: str) -> str:
    """What the library says of a mistake, in a line."""
    return " ".join(words.split())[:300]
