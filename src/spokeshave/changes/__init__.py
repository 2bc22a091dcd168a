"""What differs between two machine files: as values with their places, which can be taken over one by one, and in words.

two machine files ──tree──> what has a name, by name; fields as plain values ──compare──> differences ──words──> sentences
"""
