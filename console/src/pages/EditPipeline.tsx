import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import { useQuery, keepPreviousData } from '@tanstack/react-query';
import { useEffect, useRef, useState } from 'react';
import { useNavigate, useParams, useSearchParams } from 'react-router';
import { api, take, type Finding, type PipelineNote } from '../api/client';
import { useKeys } from '../keys';
import { Editor, type EditorHandle } from '../parts/Editor';
import { Graph } from '../parts/Graph';
import { useTopic } from '../stream';
import { count } from '../text';
import { mono } from '../theme';

const blank = `about = "What this pipeline is for"

[trigger.push]
branches = ["main"]

[[job.build.step]]
name = "build"
script = "make"
`;

/** What was found, in a few words. */
function sum(errors: number, warnings: number): string {
  if (errors + warnings === 0) return '✓ nothing found';
  return `✗ ${[errors && count(errors, 'error'), warnings && count(warnings, 'warning')].filter(Boolean).join(', ')}`;
}

/** Pauses until typing pauses. */
function useSettled(text: string | undefined) {
  const [settled, settle] = useState(text);
  useEffect(() => {
    const timer = setTimeout(() => settle(text), 200);
    return () => clearTimeout(timer);
  }, [text]);
  return settled;
}

/**
 * A pipeline file with what is found in it, as one types, and its jobs drawn beside it. Nothing is saved here: files
 * belong into the repository.
 */
export default function EditPipeline() {
  const { project = '', pipeline = '' } = useParams();
  const [search] = useSearchParams();
  const ref = search.get('ref') ?? '';
  const isBlank = search.has('blank');
  const go = useNavigate();
  useTopic({ project });
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}/pipelines`) });
  const there = useQuery({
    queryKey: ['pipelines', project, ref],
    enabled: !isBlank,
    staleTime: Infinity,
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/pipelines', { params: { path: { project }, query: { ref } } })),
  });
  const note = there.data?.pipelines.find((p) => p.name === pipeline);
  const initial = isBlank ? blank : note?.text;
  const [typed, type] = useState<string>();
  const text = useSettled(typed ?? initial);
  const checked = useQuery({
    queryKey: ['check', project, pipeline, ref, text],
    enabled: text !== undefined,
    placeholderData: keepPreviousData,
    queryFn: async () =>
      take(
        await api.POST('/api/v1/projects/{project}/check', {
          params: { path: { project } },
          body: { name: pipeline, text: text ?? '', ref },
        }),
      ),
  });
  const editor = useRef<EditorHandle>(null);
  // While the text cannot be understood, the drawing stays what it was.
  const [drawn, draw] = useState<PipelineNote>();
  if (checked.data && checked.data !== drawn && (checked.data.jobs.length > 0 || !drawn)) draw(checked.data);
  const findings: Finding[] = checked.data?.findings ?? [];
  const errors = findings.filter((f) => f.severity === 'error').length;
  const file = `piston/${pipeline}.toml`;

  if (there.error)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        {there.error.message}
      </Alert>
    );
  if (there.data && !note && !isBlank)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        There is no {file} at {there.data.ref}.
      </Alert>
    );
  if (initial === undefined) return null;
  const panel = {
    border: 1,
    borderColor: 'divider',
    borderRadius: 1,
    bgcolor: 'background.paper',
    overflow: 'hidden',
    minHeight: 0,
  } as const;
  return (
    <Box sx={{ height: '100%', minHeight: 0, display: 'flex', flexDirection: 'column', p: 1.5, gap: 1.5 }}>
      <Box sx={{ display: 'flex', gap: 2, alignItems: 'baseline', flexWrap: 'wrap' }}>
        <Box component="h1" sx={{ m: 0, fontSize: 16, fontWeight: 650 }}>
          {file}
        </Box>
        <span>
          {isBlank ? 'a new one' : `at ${there.data?.ref} ${there.data?.commit.slice(0, 7)}`}
          {typed !== undefined && typed !== initial && ', changed here'}
        </span>
        <Box
          component="span"
          role="status"
          sx={{
            fontWeight: 600,
            color: errors
              ? 'error.main'
              : findings.length
                ? 'var(--mui-palette-state-late)'
                : 'var(--mui-palette-state-good)',
          }}
        >
          {checked.error ? checked.error.message : !checked.data ? 'checking' : sum(errors, findings.length - errors)}
        </Box>
        <Box sx={{ flexGrow: 1 }} />
        <Box component="span" sx={{ color: 'text.secondary' }}>
          Nothing is saved here: commit it to the repository.
        </Box>
        <Button size="small" variant="outlined" onClick={() => void navigator.clipboard.writeText(typed ?? initial)}>
          Copy the text
        </Button>
        <Button
          size="small"
          variant="outlined"
          component="a"
          download={`${pipeline}.toml`}
          href={`data:text/plain;charset=utf-8,${encodeURIComponent(typed ?? initial)}`}
        >
          Download
        </Button>
      </Box>
      <Box
        sx={{
          flexGrow: 1,
          minHeight: 0,
          display: 'grid',
          gridTemplateColumns: { xs: '1fr', md: '1fr minmax(380px, 44%)' },
          gap: 1.5,
        }}
      >
        <Box sx={panel}>
          <Editor ref={editor} initial={initial} file={file} findings={findings} changed={type} />
        </Box>
        <Box
          sx={{ display: 'grid', gridTemplateRows: 'minmax(120px, auto) minmax(120px, 1fr)', gap: 1.5, minHeight: 0 }}
        >
          <Box sx={{ ...panel, maxHeight: '46vh', display: 'flex', flexDirection: 'column' }}>
            <Box sx={{ px: 1.5, pt: 1, fontWeight: 650 }}>
              Jobs{' '}
              <Box component="span" sx={{ fontWeight: 400, color: 'text.secondary' }}>
                {drawn?.triggers.length ? `start on ${drawn.triggers.join('; ')}` : 'started by hand'}
              </Box>
            </Box>
            {drawn && <Graph jobs={drawn.jobs} open={(j) => editor.current?.goTo(j.line)} />}
          </Box>
          <Box component="section" aria-label="Found" sx={{ ...panel, overflow: 'auto' }} tabIndex={0}>
            <Box sx={{ px: 1.5, pt: 1, fontWeight: 650 }}>Found</Box>
            {findings.length === 0 && checked.data && (
              <Box sx={{ px: 1.5, py: 1, color: 'text.secondary' }}>
                Nothing: as far as a machine can tell this will run.
              </Box>
            )}
            {findings.map((f) => (
              <Box
                key={`${f.file}:${f.line}:${f.col}:${f.code}:${f.message}`}
                sx={{ px: 1.5, py: 0.75, borderBottom: 1, borderColor: 'divider' }}
              >
                <Box sx={{ display: 'flex', gap: 1, alignItems: 'baseline' }}>
                  <Box
                    component="span"
                    sx={{
                      color: f.severity === 'error' ? 'error.main' : 'var(--mui-palette-state-late)',
                      fontWeight: 650,
                    }}
                  >
                    {f.severity}
                  </Box>
                  {f.file === file && f.line > 0 ? (
                    <Box
                      component="button"
                      onClick={() => editor.current?.goTo(f.line, Math.max(1, f.col))}
                      sx={{
                        font: 'inherit',
                        fontFamily: mono,
                        fontSize: 12,
                        color: 'primary.main',
                        border: 0,
                        background: 'none',
                        p: 0,
                        cursor: 'pointer',
                        textDecoration: 'underline',
                      }}
                    >
                      line {f.line}
                    </Box>
                  ) : (
                    <Box component="span" sx={{ fontFamily: mono, fontSize: 12 }}>
                      {f.file}
                      {f.line > 0 && `:${f.line}`}
                    </Box>
                  )}
                  <Box component="span" sx={{ fontFamily: mono, fontSize: 11, color: 'text.secondary' }}>
                    {f.code}
                  </Box>
                </Box>
                <Box>{f.message}</Box>
                {f.fix && <Box sx={{ color: 'text.secondary', whiteSpace: 'pre-wrap' }}>{f.fix}</Box>}
              </Box>
            ))}
          </Box>
        </Box>
      </Box>
    </Box>
  );
}
