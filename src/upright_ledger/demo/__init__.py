"""The Quillhaven Clock Museum: a made-up site that moves, generated from a seed with its truth
beside it.
"""
