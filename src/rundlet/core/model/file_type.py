"""What type of file a name stands for, in a person's words."""

from __future__ import annotations

from enum import Enum

from rundlet.core.sentences import fill


class FileType(Enum):
    """A group of file types that people look for together; the value is its word in the plural."""

    FOLDERS = "Folders"
    ARCHIVES = "Archives"
    PICTURES = "Pictures"
    TABLES = "Tables"
    SOUND = "Sound"
    FILMS = "Films"
    MAPS = "Maps"
    TEXT = "Text"
    DOCUMENTS = "Documents"
    PROGRAMS = "Programs"
    LINKS = "Links"
    OTHER = "Other"


_ENDINGS = {
    FileType.ARCHIVES: "zip 7z tar gz tgz bz2 tbz2 xz txz zst tzst z lzma jar whl deb rpm iso cab rar 001 z01",
    FileType.PICTURES: "jpg jpeg png gif bmp tif tiff webp heic avif ico raw cr2 nef dng",
    FileType.TABLES: "csv tsv ods xls xlsx parquet db sqlite",
    FileType.SOUND: "wav mp3 ogg opus flac m4a aac mid aiff",
    FileType.FILMS: "mp4 mkv mov avi webm mpg mpeg",
    FileType.MAPS: "geojson gpx kml svg shp osm topojson",
    FileType.TEXT: "txt md rst log ini cfg conf toml yaml yml json xml html htm css tex",
    FileType.DOCUMENTS: "pdf odt doc docx odp ppt pptx rtf epub ps",
    FileType.PROGRAMS: "py sh js ts c h cpp hpp rs go java kt rb pl php exe dll so bin appimage msi deb bat",
}

_BY_ENDING = {ending: file_type for file_type, endings in reversed(_ENDINGS.items()) for ending in endings.split()}

_WORDS = {
    "jpg": "JPEG picture",
    "jpeg": "JPEG picture",
    "csv": "CSV table",
    "wav": "WAV sound",
    "txt": "Plain text",
    "md": "Markdown text",
    "pdf": "PDF document",
    "svg": "SVG drawing",
    "geojson": "GeoJSON map",
}

_NOUNS = {
    FileType.ARCHIVES: "archive",
    FileType.PICTURES: "picture",
    FileType.TABLES: "table",
    FileType.SOUND: "sound",
    FileType.FILMS: "film",
    FileType.MAPS: "map",
    FileType.TEXT: "text",
    FileType.DOCUMENTS: "document",
    FileType.PROGRAMS: "program",
}
_OF_A_TYPE = {
    FileType.ARCHIVES: "{extension} archive",
    FileType.PICTURES: "{extension} picture",
    FileType.TABLES: "{extension} table",
    FileType.SOUND: "{extension} sound",
    FileType.FILMS: "{extension} film",
    FileType.MAPS: "{extension} map",
    FileType.TEXT: "{extension} text",
    FileType.DOCUMENTS: "{extension} document",
    FileType.PROGRAMS: "{extension} program",
}


def file_type_of(name: str) -> FileType:
    """The group of a file, by the ending of its name."""
    stem, _, ending = name.rpartition(".")
    if len(ending) == 3 and ending.isdigit() and "." in stem:
        return file_type_of(stem)  # a numbered part
    return _BY_ENDING.get(ending.lower(), FileType.OTHER) if "." in name else FileType.OTHER


_RUN = frozenset(
    ["exe", "msi", "bat", "cmd", "com", "appimage", "run", "sh", "jar", "desktop", "deb", "rpm", "dmg", "pkg"]
)


def looks_like_a_program(name: str) -> bool:
    """Whether a file is one to run or to install, by the ending of its name; such files often need their neighbours."""
    return "." in name and name.rpartition(".")[2].lower() in _RUN


def noun_for(file_type: FileType) -> str:
    """One file of a group in a word."""
    return _NOUNS.get(file_type, "file")


def word_for(name: str) -> str:
    """What a file is, e.g. ``"PNG picture"``; ``"File"`` when its name does not tell."""
    ending = name.rpartition(".")[2].lower() if "." in name else ""
    if ending in _WORDS:
        return _WORDS[ending]
    known = _OF_A_TYPE.get(file_type_of(name), "{extension} file" if 0 < len(ending) <= 5 else "File")
    return fill(known, {"extension": ending.upper()})
