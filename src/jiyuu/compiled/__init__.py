"""From text to code that can be called: compiled once a machine, kept in a folder, linked in a hundredth of a second.

Here and nowhere else is a compiler asked for; what compiles loops takes a second to load, and what is kept needs
none."""
