"""The practice town: a small server that plays the outside world. It never imports `ulmus`."""
