"""Bytes to frames and back, with the problems of each row; nothing else touches file syntax."""
