"""Compiled kernels: blocks of times worked row by row. Only the files in this folder decide about compiling anew."""
