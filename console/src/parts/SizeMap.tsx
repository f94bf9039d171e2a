import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import { useState } from 'react';
import { pieceAt, tiles, type Piece } from '../sizes';
import { size } from '../text';

/** What the size of a package is made of: tiles as large as their bytes, which one can walk into. */
export function SizeMap({ of }: { of: Piece }) {
  const [path, setPath] = useState<string[]>([]);
  const at = pieceAt(of, path);
  const share = (p: Piece) => `${((p.bytes / Math.max(of.bytes, 1)) * 100).toFixed(1)} %`;
  return (
    <Paper component="section" aria-label="What the size is made of" sx={{ p: 1.5 }}>
      <Box component="nav" aria-label="Where in the package" sx={{ display: 'flex', flexWrap: 'wrap', mb: 1 }}>
        {['all', ...at.path].map((name, i) => (
          <Button
            key={i}
            size="small"
            disabled={i === at.path.length}
            onClick={() => setPath(at.path.slice(0, i))}
            sx={{ minWidth: 0 }}
          >
            {name}
          </Button>
        ))}
        <Box sx={{ ml: 'auto', color: 'text.secondary', fontSize: 13, alignSelf: 'center' }}>
          {size(at.bytes)}, {share(at)}
        </Box>
      </Box>
      <Box sx={{ position: 'relative', height: 240 }}>
        {tiles(at, 2.6).map((t, i) => (
          <Box
            key={t.piece.name}
            component="button"
            type="button"
            disabled={t.piece.inside.length === 0}
            title={`${t.piece.path.join('/')}: ${size(t.piece.bytes)}, ${share(t.piece)}`}
            onClick={() => setPath(t.piece.path)}
            sx={{
              position: 'absolute',
              left: `${t.left}%`,
              top: `${t.top}%`,
              width: `${t.width}%`,
              height: `${t.height}%`,
              overflow: 'hidden',
              border: 2,
              borderColor: 'background.paper',
              borderRadius: 0.75,
              bgcolor: i % 2 ? 'soft' : 'divider',
              color: 'text.primary',
              font: 'inherit',
              fontSize: 12,
              lineHeight: 1.3,
              textAlign: 'left',
              verticalAlign: 'top',
              display: 'flex',
              flexDirection: 'column',
              alignItems: 'flex-start',
              p: 0.5,
              cursor: t.piece.inside.length > 0 ? 'pointer' : 'default',
            }}
          >
            <b>{t.piece.name}</b>
            <span>{size(t.piece.bytes)}</span>
          </Box>
        ))}
      </Box>
    </Paper>
  );
}
