"""The page of a trial: one file that shows it in any browser, without a network.

``making.page`` gathers everything: ``scene`` (shapes of the world), ``motion`` (poses of frames), ``columns``
(streams), ``seen`` (clouds, pictures, contacts), each of which puts its numbers into a ``Store``. What the browser does
with them is in the files ``.js`` beside; they read what ``Store`` wrote, and start in ``main.js``.
"""
