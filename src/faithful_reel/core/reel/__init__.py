"""What a chapter will sound like: pieces, joins, edit commands, the renderer."""
