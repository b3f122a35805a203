"""What goes in and out of the HTTP API, one module for each step."""

from .base import FindingOut, Made, Model, Out, Problem, Said, Started
from .bring_in import BringIn, ErrorOut, OriginalOut, ScanReading, StationOut, StationPatch, TileOut, UploadIn, UploadOut
from .clean import BoxIn, BoxOut, BoxProposal, EditOut, EditPatch, LassoIn, LassoOut
from .draw import FitOut, SectionIn, SectionOut, TraceIn, TraceOut, TracePatch
from .hand_over import DeliveryIn, DeliveryOut
from .place import ControlOut, ControlPatch, ControlPointOut, ControlPreview, ControlPreviewPoint, ControlText, SquareIn, SquareOut
from .project import Frame, JobOut, JournalOut, KnotOut, ProjectCard, ProjectIn, ProjectOut, ProjectPatch
from .tie import LinkOut, NetworkOut, PairIn, SightingOut, SightingPatch, SpheresIn, Used

__all__ = [
    "BoxIn",
    "BoxOut",
    "BoxProposal",
    "BringIn",
    "ControlOut",
    "ControlPatch",
    "ControlPointOut",
    "ControlPreview",
    "ControlPreviewPoint",
    "ControlText",
    "DeliveryIn",
    "DeliveryOut",
    "EditOut",
    "EditPatch",
    "ErrorOut",
    "FindingOut",
    "FitOut",
    "Frame",
    "JobOut",
    "JournalOut",
    "KnotOut",
    "LassoIn",
    "LassoOut",
    "LinkOut",
    "Made",
    "Model",
    "NetworkOut",
    "OriginalOut",
    "Out",
    "PairIn",
    "Problem",
    "ProjectCard",
    "ProjectIn",
    "ProjectOut",
    "ProjectPatch",
    "Said",
    "ScanReading",
    "SectionIn",
    "SectionOut",
    "SightingOut",
    "SightingPatch",
    "SpheresIn",
    "SquareIn",
    "SquareOut",
    "Started",
    "StationOut",
    "StationPatch",
    "TileOut",
    "TraceIn",
    "TraceOut",
    "TracePatch",
    "UploadIn",
    "UploadOut",
    "Used",
]
