package work
