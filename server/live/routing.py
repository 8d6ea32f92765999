"""Addresses of the WebSockets."""

from django.urls import path

from live.consumers import BenchConsumer

websockets = [path("ws/objects/<uuid:object_id>", BenchConsumer.as_asgi())]
