"""The first steps of an installation, as people read them."""

from __future__ import annotations

from collections.abc import Mapping

from calm_tariff.core.first_steps import Step

# What is done in a step, what it is for, and what leads there.
IN_WORDS: Mapping[Step, tuple[str, str, str]] = {
    "settings": (
        "Look through the settings",
        "Name, currency, time zone and tax: the first charge locks currency and zone.",
        "Open the settings",
    ),
    "api": (
        "Describe your first API",
        "From an OpenAPI document, or by typing its operations; and where its back end is.",
        "Describe it",
    ),
    "product": (
        "Package it as a product",
        "Which operations are sold together, and under which terms of use.",
        "Make a product",
    ),
    "plan": (
        "Publish a plan",
        "How fast, how much, for how much money: on the product's tariff sheet.",
        "Open the products",
    ),
    "key": (
        "Get a key at your own portal",
        "As a developer does: sign up, choose the plan, make a key.",
        "Open the portal",
    ),
    "call": (
        "Make the first call",
        "Through the gateway, with the key; it is in the log a moment later.",
        "Watch the traffic",
    ),
}
