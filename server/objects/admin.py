"""Objects, for the administrator: whose they are, who else sees them, what they take."""

from typing import Any

from django.contrib import admin

from objects.models import LookLink, ScanObject, Share


class ShareInline(admin.TabularInline):
    """Who else may look or work."""

    model = Share
    extra = 0


class LookLinkInline(admin.TabularInline):
    """Links to look; their secrets are not kept."""

    model = LookLink
    extra = 0
    fields = ("note", "expires", "taken_back")

    def has_add_permission(self, request: Any, obj: Any = None) -> bool:
        """Links are made on the shelf, where their secret is shown."""
        return False


@admin.register(ScanObject)
class ScanObjectAdmin(admin.ModelAdmin):
    """An object can be given to another owner here; its work happens on the bench."""

    list_display = ("title", "owner", "room", "created", "changed")
    list_filter = ("owner",)
    search_fields = ("title", "notes")
    fields = ("title", "owner", "notes", "room")
    readonly_fields = ("room",)
    inlines = (ShareInline, LookLinkInline)

    @admin.display(ordering="room_bytes")
    def room(self, scan_object: ScanObject) -> str:
        """What it takes on the disk."""
        return f"{scan_object.room_bytes / 1e6:,.0f} MB"

    def has_add_permission(self, request: Any) -> bool:
        """Objects are made on the shelf."""
        return False

    def has_delete_permission(self, request: Any, obj: Any = None) -> bool:
        """Objects are deleted by their owner, with their captures."""
        return False
