"""What runs in this folder, and how each process of it is."""

from __future__ import annotations

from sqlalchemy.exc import OperationalError

from calm_tariff.core.errors import Invalid
from calm_tariff.launch.folder import running_in
from calm_tariff.launch.reached import reached
from calm_tariff.services.base.context import Actor
from calm_tariff.services.serve import instances
from calm_tariff.services.serve.instances import InstanceView
from calm_tariff.settings import settings_now
from calm_tariff.version import version


def status() -> int:
    """Say it; 0 where everything is well, 1 where something is not, or nothing runs."""
    print(f"Calm Tariff {version()}")
    base = settings_now()
    try:
        ctx = reached(Actor("whoever runs this machine", frozenset({"operations"})))
    except Invalid:
        print(f"Nothing runs in {base.var.resolve()}; ./calm start or ./calm demo starts it.")
        return 1
    try:
        found = instances.health(ctx).instances
    except OperationalError:
        print("The database does not answer, and how the others are cannot be told.")
        return 1
    print(f"{'The demo' if running_in(base.var) == 'calm_demo' else 'An installation'} runs in {base.var.resolve()}:")
    for each in found:
        print(f"  {each.name:12} {in_words(each)}")
    return 0 if found and all(each.alive and not each.report.get("fault") for each in found) else 1


def in_words(of: InstanceView) -> str:
    """How a process is, in a line."""
    if not of.alive:
        return f"silent since {of.seen_at:%Y-%m-%d %H:%M:%S} UTC"
    said = [f"up since {of.started_at:%Y-%m-%d %H:%M} UTC"]
    again = int(of.report.get("started_again", 0))
    if again:
        said.append(f"started again {again} times, last ended {of.report.get('ended_with')}")
    if of.report.get("fault"):
        said.append(f"cannot record calls: {of.report['fault']}")
    if of.behind:
        said.append(f"{of.behind} changes behind")
    said.append(str(of.report.get("version", "")))
    return ", ".join(filter(None, said))
