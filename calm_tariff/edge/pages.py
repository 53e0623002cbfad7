"""How pages are sent: what a browser may do with them."""

from __future__ import annotations


def security(framed_by: str = "'none'", asks: str = "") -> dict[str, str]:
    """The fields of a page that may be shown inside pages of `framed_by`, and may ask its own origin and `asks`; both
    are sources of CSP."""
    own = f"'self' {asks}".rstrip()
    return {
        "content-security-policy": "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "
        f"connect-src {own}; frame-ancestors {framed_by}; base-uri 'none'; form-action 'self'",
        "x-content-type-options": "nosniff",
        "referrer-policy": "same-origin",
    }
