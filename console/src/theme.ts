import { createTheme } from '@mui/material/styles';

/** Colours that go with the states; each keeps at least 4.5:1 to the page and the panels (WCAG 2.2, 1.4.3). */
export interface StateColours {
  good: string;
  bad: string;
  busy: string;
  quiet: string;
  late: string;
  ask: string;
}

declare module '@mui/material/styles' {
  interface Palette {
    state: StateColours;
    line: string;
    panel: string;
    soft: string;
  }
  interface PaletteOptions {
    state: StateColours;
    line: string;
    panel: string;
    soft: string;
  }
}

export const mono = '"JetBrains Mono Variable", ui-monospace, monospace';

export const theme = createTheme({
  cssVariables: { colorSchemeSelector: 'data-scheme' },
  colorSchemes: {
    light: {
      palette: {
        primary: { main: '#0f5e63' },
        error: { main: '#a8231b' },
        background: { default: '#f4f3ee', paper: '#fdfcf9' },
        text: { primary: '#1d2528', secondary: '#545f63' },
        divider: '#dcd9cf',
        state: { good: '#23673a', bad: '#a8231b', busy: '#0a5794', quiet: '#5a6468', late: '#8c4300', ask: '#6f5300' },
        line: '#dcd9cf',
        panel: '#fdfcf9',
        soft: '#ebe9e1',
      },
    },
    dark: {
      palette: {
        primary: { main: '#74c5c3' },
        error: { main: '#ff9d90' },
        background: { default: '#111718', paper: '#182022' },
        text: { primary: '#e3e8e6', secondary: '#a3aeb1' },
        divider: '#2d383b',
        state: { good: '#7fca91', bad: '#ff9d90', busy: '#83bdf2', quiet: '#a3aeb1', late: '#f3b66f', ask: '#e4c563' },
        line: '#2d383b',
        panel: '#182022',
        soft: '#212b2e',
      },
    },
  },
  shape: { borderRadius: 6 },
  typography: {
    fontFamily: '"Inter Variable", system-ui, sans-serif',
    fontSize: 13,
    h1: { fontSize: '1.25rem', fontWeight: 650, letterSpacing: '-0.01em' },
    h2: { fontSize: '0.95rem', fontWeight: 650 },
    button: { textTransform: 'none', fontWeight: 550 },
  },
  components: {
    MuiButtonBase: { defaultProps: { disableRipple: true } },
    // Nothing glides: what opens is there, for the eye and for a click.
    MuiDialog: { defaultProps: { transitionDuration: 0 } },
    MuiMenu: { defaultProps: { transitionDuration: 0 } },
    MuiPaper: { defaultProps: { variant: 'outlined' } },
    MuiTableCell: {
      styleOverrides: {
        root: { padding: '6px 12px', fontSize: 13 },
        head: { fontWeight: 550, color: 'inherit', opacity: 0.75 },
      },
    },
    MuiCssBaseline: {
      styleOverrides: {
        a: { color: 'var(--mui-palette-primary-main)' },
        '*:focus-visible': { outline: '2px solid currentColor', outlineOffset: 1 },
      },
    },
  },
});

/** Colours that tell parts of a picture apart, none of them that of a state; a legend names each. */
export const series = {
  light: ['#2a6f97', '#b5651d', '#6a4c93', '#3f7d20', '#a23e48', '#1b7f79', '#7a6a00', '#5c5c8a', '#8a8a8a'],
  dark: ['#7fb8dd', '#e0a568', '#b99be0', '#93c572', '#e58c94', '#6fcac4', '#cdbd4f', '#a9a9d8', '#9a9a9a'],
} as const;
