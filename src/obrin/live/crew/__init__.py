"""Work in independent pieces: done here, by processes of this machine, or by other machines."""
