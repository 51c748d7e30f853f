"""From a plan to a drive: identities, composing, the manifest, and the one writer for every target."""
