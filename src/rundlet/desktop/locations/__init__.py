"""What can be listed: a folder on the disk, a folder of an archive, what unpacking will leave behind."""
