"""Registry hives: `records`, strict reading (`read`), making new ones (`make`), changing single values (`edit`).

Boot stores are hives as well (`store`).
"""
