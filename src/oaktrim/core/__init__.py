"""All computation: no interface, no printing, no globals that change."""
