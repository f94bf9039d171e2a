import Box from '@mui/material/Box';
import ReactMarkdown, { type Components } from 'react-markdown';
import remarkGfm from 'remark-gfm';
import { mono } from '../theme';

/** Headings of a note are below the page's own. */
const heading = ({ children }: { children?: React.ReactNode }) => (
  <Box component="h3" sx={{ fontSize: 13, fontWeight: 650, mt: 1, mb: 0.5 }}>
    {children}
  </Box>
);

const components: Components = {
  h1: heading,
  h2: heading,
  h3: heading,
  h4: heading,
  h5: heading,
  h6: heading,
  // A picture would make the browser ask a stranger's server: its text is shown, and where it would be from.
  img: ({ alt, src }) => <code>{`${alt ?? ''} (${typeof src === 'string' ? src : ''})`}</code>,
  a: ({ href, children }) => (
    <Box component="a" href={href} rel="noreferrer nofollow" sx={{ color: 'primary.main', overflowWrap: 'anywhere' }}>
      {children}
    </Box>
  ),
  table: ({ children }) => (
    <Box sx={{ overflowX: 'auto' }} tabIndex={0}>
      <table>{children}</table>
    </Box>
  ),
};

/** Shows Markdown that a stranger wrote: no HTML of it, no pictures, and no addresses but of the web and mail. */
export default function Markdown({ text }: { text: string }) {
  return (
    <Box
      sx={{
        fontSize: 13,
        overflowWrap: 'anywhere',
        '& p, & ul, & ol': { my: 0.5 },
        '& pre': { overflowX: 'auto', m: 0, fontFamily: mono, fontSize: 12 },
        '& code': { fontFamily: mono, fontSize: 12 },
        '& table': { borderCollapse: 'collapse' },
        '& th, & td': { border: 1, borderColor: 'divider', px: 1, py: 0.25, textAlign: 'left' },
      }}
    >
      <ReactMarkdown remarkPlugins={[remarkGfm]} components={components}>
        {text}
      </ReactMarkdown>
    </Box>
  );
}
