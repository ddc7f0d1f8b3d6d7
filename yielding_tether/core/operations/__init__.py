"""Operations on takes: one file each. Each takes a program and what is asked, and gives a take and its proof."""
