"""Reading and writing the files that people and programs share, with every fault named by file and line."""
