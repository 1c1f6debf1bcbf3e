"""One client per outside protocol: bytes in, plain values out, no idea of workflows."""
