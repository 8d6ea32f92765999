"""Signing in."""

from rest_framework import serializers as s


class SignIn(s.Serializer):
    username = s.CharField(max_length=150)
    password = s.CharField(max_length=200, trim_whitespace=False)


class Session(s.Serializer):
    signed_in = s.BooleanField()
    username = s.CharField(allow_blank=True)
    visitor = s.BooleanField(help_text="Looks at objects through links, without an account.")
    administrator = s.BooleanField()
    demo = s.BooleanField()
