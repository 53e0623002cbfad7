"""What the documents name is there: tests by their place, modules and what stands in them by their dotted name."""

import importlib
import re
from pathlib import Path

import pytest

from calm_tariff.core.events import types

ROOT = Path(__file__).parents[1]
DOCUMENTS = [*sorted((ROOT / "docs").glob("*.md")), ROOT / "README.md"]
LAYERS = "|".join(sorted(p.parent.name for p in (ROOT / "calm_tariff").glob("*/__init__.py")))


def there(dotted: str) -> bool:
    """Whether a module is there, or what a module holds."""
    try:
        importlib.import_module(f"calm_tariff.{dotted}")
    except ModuleNotFoundError:
        parent, _, name = dotted.rpartition(".")
        return bool(parent) and hasattr(importlib.import_module(f"calm_tariff.{parent}"), name)
    return True


def test_every_type_of_event_is_told() -> None:
    words = (ROOT / "docs" / "hooks.md").read_text(encoding="utf-8")
    for topic, of_topic in types().items():
        assert f"| `{topic}` | {', '.join(f'`{one.removeprefix(topic + chr(46))}`' for one in of_topic)} |" in words


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_what_a_document_names_is_there(document: Path) -> None:
    words = document.read_text(encoding="utf-8")
    tests = set(re.findall(r"`([a-z_/]+/test_[a-z_]+)`", words))
    modules = set(re.findall(rf"`((?:{LAYERS})\.[a-z_.]*[a-z_])`", words))

    assert [name for name in sorted(tests) if not (ROOT / "tests" / f"{name}.py").exists()] == []
    assert [name for name in sorted(modules) if not there(name)] == []
