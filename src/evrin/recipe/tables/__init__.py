"""What every table of a recipe is made of: its base, numbers and places, files, selections, the site."""

from evrin.recipe.tables.base import Number, Place, Positive, Ring, Table, default_length
from evrin.recipe.tables.input_files import FileTable, InputFile, OutlineFile, files_in
from evrin.recipe.tables.selecting import Selecting, selection_of
from evrin.recipe.tables.site import Kind, Site, Tables

__all__ = [
    "FileTable",
    "InputFile",
    "Kind",
    "Number",
    "OutlineFile",
    "Place",
    "Positive",
    "Ring",
    "Selecting",
    "Site",
    "Table",
    "Tables",
    "default_length",
    "files_in",
    "selection_of",
]
