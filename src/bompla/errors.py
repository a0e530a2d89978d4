"""The exceptions of Bompla: one root, each message a sentence a user can act on.

BomplaError
├── SoundFileError   a sound file, on the way in or out
├── AnalysisError    what is heard
├── ProjectError     a project file
├── ExportError      what is sent out
├── EditError        an edit the document cannot hold
├── EngineError      what plays
├── KitError         a kit from elsewhere
└── SettingsError    what the user prefers
"""


class BomplaError(Exception):
    """Something went wrong that a person can be told about in one sentence."""


class SoundFileError(BomplaError):
    """A sound file could not be read or written."""


class AnalysisError(BomplaError):
    """A sound could be read but not analysed."""


class ProjectError(BomplaError):
    """A project file could not be read or written."""


class ExportError(BomplaError):
    """A result could not be written."""


class EditError(BomplaError):
    """An edit asks for something the document cannot hold."""


class EngineError(BomplaError):
    """The sound engine could not do what was asked of it."""


class KitError(BomplaError):
    """A kit from elsewhere could not be read."""


class SettingsError(BomplaError):
    """What the user prefers could not be kept."""
