"""Kits from elsewhere: read from instruments, fonts, folders and projects, made by synthesis, and put under a groove."""
