"""Nearest places, rays and distances."""
