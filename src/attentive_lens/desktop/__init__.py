"""What the program puts on a desktop: its entry, icon, file type, description, manual page and completion."""
