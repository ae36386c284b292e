"""Thermionic: the computation core of Bold Anode.

Data flows one way: values, devices, tubes, circuit, design, blocks, findings, powerup.
Each layer imports only from the ones before it. Nothing here knows of HTTP, HTML or a database.
"""
