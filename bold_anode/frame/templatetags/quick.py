"""A part of a page that Jinja fills in, for the parts with many places."""

from typing import Any, cast

from django import template
from django.template import Context
from django.template.loader import render_to_string
from django.utils.safestring import SafeString, mark_safe

register = template.Library()


@register.simple_tag(takes_context=True)
def quick(context: Context, name: str, **more: Any) -> SafeString:
    """The Jinja template of that name, with this page's context."""
    return mark_safe(render_to_string(name, {**cast(dict[str, Any], context.flatten()), **more}))
