import Box from '@mui/material/Box';
import { useColorScheme } from '@mui/material/styles';
import { FitAddon } from '@xterm/addon-fit';
import { Terminal } from '@xterm/xterm';
import '@xterm/xterm/css/xterm.css';
import { useEffect, useRef } from 'react';
import { mono } from '../theme';

/** The colours a terminal has where it stands. */
function coloursAt(at: HTMLElement) {
  const { backgroundColor, color, caretColor } = getComputedStyle(at);
  return { background: backgroundColor, foreground: color, cursor: caretColor, selectionBackground: '#7f9fa055' };
}

/** A terminal. begin is told of it once it is there, and gives what ends that. */
export function Screen({ label, fits, begin }: { label: string; fits: boolean; begin: (t: Terminal) => () => void }) {
  const at = useRef<HTMLDivElement>(null);
  const { mode, systemMode } = useColorScheme();
  const scheme = mode === 'system' ? systemMode : mode;
  const shown = useRef<Terminal>(undefined);
  useEffect(() => {
    const place = at.current;
    if (!place) return;
    const t = new Terminal({
      fontFamily: mono,
      fontSize: 13,
      scrollback: 20_000,
      screenReaderMode: true,
      minimumContrastRatio: 4.5,
      theme: coloursAt(place),
    });
    const fit = new FitAddon();
    t.loadAddon(fit);
    t.open(place);
    t.textarea?.setAttribute('aria-label', label);
    // All other keys are the shell's (WCAG 2.2, 2.1.2).
    t.attachCustomKeyEventHandler((e) => {
      if (e.type === 'keydown' && e.key === 'Escape' && e.shiftKey) t.blur();
      return !(e.key === 'Escape' && e.shiftKey);
    });
    const watch = new ResizeObserver(() => {
      if (fits) fit.fit();
    });
    if (fits) fit.fit();
    watch.observe(place);
    const end = begin(t);
    shown.current = t;
    return () => {
      shown.current = undefined;
      end();
      watch.disconnect();
      t.dispose();
    };
  }, [begin, fits, label]);
  useEffect(() => {
    if (shown.current && at.current) shown.current.options.theme = coloursAt(at.current);
  }, [scheme]);
  return (
    <Box
      ref={at}
      sx={{
        height: '100%',
        minHeight: 0,
        overflow: fits ? 'hidden' : 'auto',
        bgcolor: 'background.paper',
        color: 'text.primary',
        caretColor: 'var(--mui-palette-primary-main)',
      }}
    />
  );
}
