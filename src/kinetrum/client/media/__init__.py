"""Plots, images, sound, video, texts and tables that a run keeps."""
