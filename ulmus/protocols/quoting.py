"""What a person wrote in a reply: without what it quotes, and without their signature."""

from __future__ import annotations

import re

_CLOSING = re.compile(
    r"(?i)^\s*(?:(?:best|kind|warm|many)(?: regards| wishes)?|regards|cheers|yours(?: sincerely| truly)?|sincerely|(?:viele|liebe|beste|herzliche|"
    r"freundliche|mit freundlichen) grü(?:ße|ßen|sse)|lg|mfg|vg|cordialement|bien à vous|bien cordialement|saludos(?: cordiales)?|un saludo|cordiali saluti|"
    r"saluti|atenciosamente|abraços|cumprimentos|(?:met )?vriendelijke groet(?:en)?|groet(?:en|jes)?)\s*[,.!]?\s*$"
)
_SENT_FROM = re.compile(
    r"(?im)^\s*(?:sent from my|get .{2,20} for|(?:von meinem|gesendet von)|envoyé (?:de|depuis) mon|enviado desde mi|inviato (?:da|dal) mi|enviado do meu|verzonden vanaf mijn).*$"
)
_INTRODUCES = re.compile(r"(?s)(?:^|\n)[^\n]{0,200}:[ \t]*(?:\n[ \t]*)*$")


def written(text: str) -> str:
    """The words of a reply (plain text) that its writer wrote in it: above, below or between what they answer."""
    import quotequail  # loaded on first use

    text = text.replace("\r\n", "\n").replace("\xa0", " ").strip()
    parts = quotequail.unwrap(text)
    if parts and parts.get("type") == "reply":
        text = "\n".join(part for part in (parts.get("text_top"), parts.get("text_bottom")) if part)
    elif parts and parts.get("type") == "forward":
        text = str(parts.get("text_top") or "")
    text = _unquoted(text)
    text = re.split(r"(?m)^-- ?$", text)[0]
    text = _SENT_FROM.sub("", text)
    lines = text.strip().split("\n")
    for n, line in enumerate(lines):
        if n and _CLOSING.match(line) and len(lines) - n <= 8:
            lines = lines[:n]
            break
    return "\n".join(lines).strip()


def _unquoted(text: str) -> str:
    """A text without quoted lines and the line that introduces them."""
    out: list[str] = []
    for line in text.split("\n"):
        if line.lstrip().startswith(">"):
            joined = "\n".join(out)
            if found := _INTRODUCES.search(joined):
                joined = joined[: found.start()]
            out = joined.rstrip().split("\n") if joined.strip() else []
            continue
        out.append(line)
    return "\n".join(out)
