"""Names that archives keep without saying how they are written."""

from __future__ import annotations

from collections.abc import Sequence

CODE_PAGES = {
    "utf-8": "Unicode (UTF-8)",
    "cp437": "Western, DOS (437)",
    "cp850": "Western, DOS (850)",
    "cp1252": "Western (1252)",
    "cp852": "Central European, DOS (852)",
    "cp1250": "Central European (1250)",
    "cp866": "Cyrillic, DOS (866)",
    "cp1251": "Cyrillic (1251)",
    "koi8_r": "Cyrillic (KOI8-R)",
    "cp932": "Japanese (932)",
    "gbk": "Chinese, simplified (GBK)",
    "big5": "Chinese, traditional (Big5)",
    "euc_kr": "Korean (EUC-KR)",
}
"""What a person may choose from when the guess is wrong, in words."""

_GUESSED = ["cp437", "cp850", "cp852", "cp866", "cp932", "gbk", "big5", "euc_kr", "cp1250", "cp1251", "cp1252"]
_LEAST_BYTES = 24


def guess_code_page(names: Sequence[bytes]) -> str:
    """The code page that these names, none of them UTF-8, are most likely written in.

    Few bytes are no ground for a guess: then it is code page 437, which the zip format itself names.
    """
    odd = b"\n".join(names)
    if sum(byte >= 0x80 for byte in odd) < _LEAST_BYTES:
        return "cp437"
    from charset_normalizer import from_bytes  # slow to import, and needed for old names only

    best = from_bytes(odd, cp_isolation=_GUESSED, threshold=0.6).best()
    return best.encoding if best is not None else "cp437"


def decode_name(raw: bytes, code_page: str) -> str:
    """A name as text; what does not fit the code page is read as code page 437, which has a character for every byte."""
    try:
        return raw.decode(code_page)
    except UnicodeDecodeError:
        return raw.decode("cp437")
