"""All computation: no interface, no printing, no globals that change."""

from oaktrim.core.kernels import keep_kernels

keep_kernels()
