import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import Paper from '@mui/material/Paper';
import Typography from '@mui/material/Typography';
import { useQuery } from '@tanstack/react-query';
import { useState, type ReactNode } from 'react';
import { Link, useNavigate, useParams } from 'react-router';
import { api, take, type Growth, type PackageDetail } from '../api/client';
import { useKeys } from '../keys';
import { Checklist } from '../parts/Checklist';
import { List } from '../parts/List';
import { SizeMap } from '../parts/SizeMap';
import { save } from '../save';
import { grown, loads, pieces } from '../sizes';
import { size } from '../text';
import { mono } from '../theme';

const sum = (list: number[]) => list.reduce((a, b) => a + b, 0);
const day = (time: string) => new Date(time).toLocaleDateString('en-CA');

function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <Box component="dt" sx={{ color: 'text.secondary' }}>
        {name}
      </Box>
      <Box component="dd" sx={{ m: 0, minWidth: 0, overflowWrap: 'anywhere' }}>
        {children}
      </Box>
    </>
  );
}

/** What a package is, asks for, and who signed it. */
function About({ p }: { p: PackageDetail }) {
  const f = p.facts;
  const beware = [
    f.debuggable && 'anybody can debug it',
    f.test_only && 'for tests only',
    f.cleartext && 'may speak unencrypted',
  ].filter(Boolean);
  return (
    <Paper
      component="dl"
      sx={{ p: 1.5, m: 0, mb: 1.5, display: 'grid', gridTemplateColumns: 'auto 1fr', columnGap: 2, rowGap: 0.5 }}
    >
      <Fact name="App">
        {f.label} <span style={{ fontFamily: mono }}>{f.id}</span>
      </Fact>
      <Fact name="System">
        {f.platform} {f.lowest} and later{f.target && `, made for ${f.target}`}
      </Fact>
      <Fact name="Processors">{f.processors.join(', ') || 'any: no native code'}</Fact>
      {f.code.length > 0 && (
        <Fact name="Code">
          {sum(f.code.map((c) => c.classes)).toLocaleString('en')} classes; methods named:{' '}
          {sum(f.code.map((c) => c.methods)).toLocaleString('en')}
        </Fact>
      )}
      <Fact name="May">
        {f.permissions.length === 0 && 'nothing that asks for permission'}
        {f.permissions.map((m) => (
          <div key={m.name}>
            {m.name.replace('android.permission.', '')}
            <Box component="span" sx={{ color: 'text.secondary' }}>
              {m.purpose ? `: ${m.purpose}` : m.means && `: ${m.means}`}
            </Box>
          </div>
        ))}
      </Fact>
      {f.domains.length > 0 && (
        <Fact name="Domains">
          {f.domains
            .map((d) => `${d.below ? '*.' : ''}${d.name}${d.cleartext ? ' (may be unencrypted)' : ''}`)
            .join(', ')}
        </Fact>
      )}
      {f.languages.length > 0 && <Fact name="Languages">{f.languages.join(', ')}</Fact>}
      {p.kind === 'app-bundle' && <Fact name="Devices load">about {loads(f.downloads, size).join(', ')}</Fact>}
      <Fact name="Icons">{f.icons.map((i) => `${i.width ?? '?'}×${i.height ?? '?'}`).join(', ') || 'none'}</Fact>
      {f.signers.map((s) => (
        <Fact key={s.fingerprints.sha256} name="Signed by">
          {s.subject} ({s.key}, until {day(s.ends)}), {f.schemes.join(' ')}
          <Box sx={{ fontFamily: mono, fontSize: 12, color: 'text.secondary' }}>SHA-256 {s.fingerprints.sha256}</Box>
        </Fact>
      ))}
      {f.profile && (
        <Fact name="Profile">
          {f.profile.name}, for {f.profile.app} of {f.profile.team}, until {day(f.profile.ends)}
        </Fact>
      )}
      {beware.length > 0 && (
        <Fact name="Beware">
          <Box component="b" sx={{ color: 'state.bad' }}>
            {beware.join(', ')}
          </Box>
        </Fact>
      )}
      {f.symbols && (
        <Fact name="Symbols">
          {f.symbols.every((s) => s.of.length === 0) && 'none that fit'}
          {f.symbols
            .filter((s) => s.of.length > 0)
            .map((s) => (
              <div key={s.path}>
                {s.path}
                <Box component="span" sx={{ color: 'text.secondary' }}>{` for ${s.of.join(', ')}`}</Box>
              </div>
            ))}
        </Fact>
      )}
      <Fact name="SHA-256">
        <span style={{ fontFamily: mono, fontSize: 12 }}>{p.sha256}</span>
      </Fact>
    </Paper>
  );
}

/** A bar from what was to what is: what came is marked, and what went is dashed. */
function Bar({ of, most }: { of: Growth; most: number }) {
  const wide = (bytes: number) => `${(bytes / Math.max(most, 1)) * 100}%`;
  const both = Math.min(of.was, of.now);
  return (
    <Box aria-hidden sx={{ display: 'flex', height: 12, width: '100%', minWidth: 120 }}>
      <Box sx={{ width: wide(both), bgcolor: 'state.quiet' }} />
      <Box sx={{ width: wide(of.now - both), bgcolor: 'state.late' }} />
      {of.was > both && <Box sx={{ width: wide(of.was - both), border: '1px dashed', borderColor: 'state.quiet' }} />}
    </Box>
  );
}

/** What has grown since the package before. */
function Since({ p, project }: { p: PackageDetail; project: string }) {
  const { since } = p;
  if (!since)
    return (
      <Alert severity="info" variant="outlined" sx={{ mb: 1.5 }}>
        The first of its kind: there is none to compare it with.
      </Alert>
    );
  const at = (id: number) => `/${encodeURIComponent(project)}/packages/${id}`;
  const released = p.released?.package;
  const all = [...since.groups, ...since.entries.slice(0, 12)];
  const most = Math.max(...all.map((g) => Math.max(g.was, g.now)));
  return (
    <Paper component="section" aria-label="What has grown" sx={{ mb: 1.5, overflowX: 'auto' }}>
      <Box sx={{ p: 1.5, pb: 0.5 }}>
        <b>{grown(since.package.size, p.size, size)}</b> since{' '}
        <Box component={Link} to={at(since.package.id)} sx={{ color: 'primary.main' }}>
          {since.package.version} ({since.package.build}), run {since.package.run}
        </Box>
        : {size(since.package.size)} then, {size(p.size)} now
        {released && (
          <Box sx={{ color: 'text.secondary' }}>
            {grown(released.size, p.size, size)} since the last released,{' '}
            <Box component={Link} to={at(released.id)} sx={{ color: 'primary.main' }}>
              {released.version} ({released.build}), run {released.run}
            </Box>
          </Box>
        )}
      </Box>
      <List
        label="What has grown"
        heads={['Part', '', 'Was', 'Is', 'Grown']}
        rows={all.map((g) => ({
          key: `${g.group}/${g.path ?? ''}`,
          cells: [
            <Box key="n" sx={{ overflowWrap: 'anywhere', pl: g.path ? 2 : 0, fontWeight: g.path ? 400 : 600 }}>
              {g.path || g.group}
            </Box>,
            <Bar key="b" of={g} most={most} />,
            size(g.was),
            size(g.now),
            grown(g.was, g.now, size),
          ],
        }))}
      />
    </Paper>
  );
}

/** What the service states of a package, to keep beside it. */
function Statements({ p, project }: { p: PackageDetail; project: string }) {
  const [wrong, say] = useState('');
  const file = p.file.split('/').pop() ?? 'package';
  const path = { params: { path: { project, id: p.id } } };
  const keep = (name: string, ask: () => Promise<{ envelope: string }>) => () => {
    say('');
    ask().then(
      (s) => {
        save(name, s.envelope);
      },
      (e: unknown) => {
        say(String(e));
      },
    );
  };
  return (
    <Box sx={{ ml: 'auto', display: 'flex', gap: 1 }}>
      <Button
        size="small"
        title="From what it was built, signed by the service: for piston verify"
        onClick={keep(`${file}.provenance.json`, async () =>
          take(await api.GET('/api/v1/projects/{project}/packages/{id}/provenance', path)),
        )}
      >
        Provenance
      </Button>
      <Button
        size="small"
        title="What it is made of, signed by the service (CycloneDX)"
        onClick={keep(`${file}.bill.json`, async () =>
          take(await api.GET('/api/v1/projects/{project}/packages/{id}/bill', path)),
        )}
      >
        Bill of materials
      </Button>
      {wrong && (
        <Alert severity="error" variant="outlined">
          {wrong}
        </Alert>
      )}
    </Box>
  );
}

/** One package: what the checklist says, what has grown, what is inside. */
export default function Package() {
  const { project = '', id = '' } = useParams();
  const go = useNavigate();
  useKeys({ u: () => void go(`/${encodeURIComponent(project)}/packages`) });
  const { data: p, error } = useQuery({
    queryKey: ['package', project, id],
    queryFn: async () =>
      take(
        await api.GET('/api/v1/projects/{project}/packages/{id}', { params: { path: { project, id: Number(id) } } }),
      ),
  });
  if (error)
    return (
      <Alert severity="error" variant="outlined" sx={{ m: 2 }}>
        {error.message}
      </Alert>
    );
  if (!p) return null;
  const root = p.kind === 'ipa' ? (/^Payload\/[^/]+\//.exec(p.facts.parts[0]?.path ?? '')?.[0] ?? '') : '';
  return (
    <Box sx={{ p: 2, maxWidth: 1280, mx: 'auto' }}>
      <Box sx={{ display: 'flex', alignItems: 'baseline', gap: 1.5, mb: 1.5, flexWrap: 'wrap' }}>
        {p.facts.picture && (
          <Box
            component="img"
            src={`data:image/png;base64,${p.facts.picture}`}
            alt="Its icon"
            sx={{ width: 32, height: 32, borderRadius: 1, alignSelf: 'center' }}
          />
        )}
        <Typography variant="h1">{p.file.split('/').pop()}</Typography>
        <Box sx={{ fontSize: 18 }}>
          {p.version} ({p.build}), {size(p.size)}
        </Box>
        <Box sx={{ color: 'text.secondary' }}>
          <Box component={Link} to={`/${encodeURIComponent(project)}/${p.run}`} sx={{ color: 'primary.main' }}>
            {p.pipeline} run {p.run}
          </Box>
          , {p.branch} <span style={{ fontFamily: mono }}>{p.commit.slice(0, 9)}</span>
        </Box>
        <Statements p={p} project={project} />
      </Box>
      <Checklist breaches={p.checklist} />
      <Since p={p} project={project} />
      <About p={p} />
      <SizeMap of={pieces(p.facts.parts, root)} />
    </Box>
  );
}
