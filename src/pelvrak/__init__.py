"""Pelvrak: multi-setup milling of one part, planned and computed."""

import os

# Several processes compute on the same few cores: threads of kernels that wait sleep, instead of spinning for
# a core that another needs. Asked before the library of threads is loaded.
os.environ.setdefault("OMP_WAIT_POLICY", "PASSIVE")
