"""How pages of the stand-ins look that people come to."""

from __future__ import annotations


def shown(title: str, inside: str) -> str:
    """A page with a title."""
    return (
        f"<!doctype html><html lang=en><meta charset=utf-8><title>{title}</title><style>"
        "body{background:#F6F3EC;color:#1E2B2A;font:15px/1.5 system-ui,sans-serif;max-width:560px;margin:40px auto;"
        "padding:0 16px}article{border-top:1px solid #DDD6C8;padding:14px 0}h2{font-size:17px;margin:0}"
        "input,button{font:inherit;padding:5px 9px}[role=alert]{color:#A3392D}code{white-space:nowrap}"
        f"</style><main><h1>{title}</h1>{inside}</main></html>"
    )
