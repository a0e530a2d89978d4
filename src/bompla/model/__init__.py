"""The document and its parts as immutable values, and edits from document to document."""
