import Alert from '@mui/material/Alert';
import Box from '@mui/material/Box';
import Button from '@mui/material/Button';
import MenuItem from '@mui/material/MenuItem';
import TextField from '@mui/material/TextField';
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, done, take, type ReleaseNote, type ReleaseNotes as Notes } from '../api/client';
import { useMe } from '../me';
import { ago } from '../text';
import { characters, platforms } from '../versions';
import { FormDialog } from './FormDialog';

interface Of {
  project: string;
  app: string;
  name: string;
}

/** How much of what stores take is used, told while one types. */
function Lengths({ text, limits }: { text: string; limits: Notes['limits'] }) {
  const n = characters(text);
  return (
    <Box role="status" sx={{ display: 'flex', gap: 2, fontSize: 13 }}>
      {limits.map((l) => {
        const over = n - l.characters;
        return (
          <Box key={l.platform} sx={{ color: over > 0 ? 'error.main' : 'text.secondary' }}>
            {platforms[l.platform]}: {n} of {l.characters}
            {over > 0 && `, ${over} too many`}
          </Box>
        );
      })}
    </Box>
  );
}

function origin(n: ReleaseNote | undefined) {
  switch (n?.from) {
    case undefined:
      return 'There are no notes in this language yet.';
    case 'person':
      return `Corrected by ${n.by ?? 'somebody'} ${n.at ? ago(n.at) : ''}.`;
    case 'file':
      return `From ${n.file ?? 'a file'} of the commit that was built.`;
    default:
      return 'Drafted from the commits since the release before.';
  }
}

async function write(of: Of, language: string, text: string | null, revision: number) {
  const path = { ...of, language };
  const address = '/api/v1/projects/{project}/releases/{app}/{name}/notes/{language}';
  if (text === null) done(await api.DELETE(address, { params: { path, query: { revision } } }));
  else done(await api.PUT(address, { params: { path }, body: { text, revision } }));
}

function Form({ of, notes, close }: { of: Of; notes: Notes; close: () => void }) {
  const may = useMe().may('builder', of.project);
  const [language, choose] = useState((notes.languages.find((n) => n.main) ?? notes.languages[0])?.language ?? 'en');
  const [fresh, setFresh] = useState(notes.languages.length === 0);
  const [typed, type] = useState<Record<string, string | null>>({}); // null: the draft is to hold again
  const note = notes.languages.find((n) => n.language === language);
  const now = typed[language];
  const text = (now === null ? note?.draft : (now ?? note?.text)) ?? '';
  const save = async () => {
    for (const [to, said] of Object.entries(typed)) {
      await write(of, to, said, notes.languages.find((n) => n.language === to)?.revision ?? 0);
      // Should one of them fail, those before it are done.
      type((all) => Object.fromEntries(Object.entries(all).filter(([tag]) => tag !== to)));
    }
  };
  const rename = (to: string) => {
    type(({ [language]: said, ...rest }) => (said === undefined ? rest : { ...rest, [to]: said }));
    choose(to);
  };
  return (
    <FormDialog
      title={`Notes of ${of.app} ${of.name}`}
      act="Save"
      close={close}
      changes="notes"
      run={save}
      {...(!may && { reading: true })}
      wide
    >
      <Box sx={{ display: 'flex', gap: 1.5, alignItems: 'center', flexWrap: 'wrap' }}>
        {fresh ? (
          <TextField
            size="small"
            label="Language"
            autoFocus
            value={language}
            placeholder="pt-BR"
            required
            slotProps={{ htmlInput: { pattern: '[A-Za-z]{2,3}(-[A-Za-z0-9]{1,8}){0,3}' } }}
            onChange={(e) => rename(e.target.value)}
            sx={{ width: 150 }}
          />
        ) : (
          <TextField
            select
            size="small"
            label="Language"
            value={language}
            onChange={(e) => choose(e.target.value)}
            sx={{ width: 150 }}
          >
            {notes.languages.map((n) => (
              <MenuItem key={n.language} value={n.language}>
                {n.language}
                {n.too_long ? ', too long' : ''}
              </MenuItem>
            ))}
          </TextField>
        )}
        {may && !fresh && (
          <Button
            onClick={() => {
              setFresh(true);
              choose('');
            }}
          >
            Another language
          </Button>
        )}
        {may && note?.from === 'person' && now !== null && (
          <Button onClick={() => type({ ...typed, [language]: null })}>Put the draft back</Button>
        )}
      </Box>
      <Box sx={{ fontSize: 13, color: 'text.secondary' }}>
        {now === null ? 'Saving puts the draft back.' : origin(note)}
      </Box>
      {note?.problem && (
        <Alert severity="warning" variant="outlined">
          {note.file} cannot be used: {note.problem}
        </Alert>
      )}
      <TextField
        multiline
        minRows={8}
        maxRows={18}
        label="Notes"
        value={text}
        onChange={(e) => type({ ...typed, [language]: e.target.value })}
        slotProps={{ htmlInput: { readOnly: !may, lang: language } }}
      />
      <Lengths text={text} limits={notes.limits} />
    </FormDialog>
  );
}

/** Shows what those who use an app are told of a release, and lets one correct it. */
export function ReleaseNotes({ of, close }: { of: Of; close: () => void }) {
  const notes = useQuery({
    queryKey: ['notes', of.project, of.app, of.name],
    staleTime: 0,
    queryFn: async () =>
      take(await api.GET('/api/v1/projects/{project}/releases/{app}/{name}/notes', { params: { path: of } })),
  });
  if (notes.error)
    return (
      <Alert severity="error" variant="outlined" sx={{ mb: 1.5 }} onClose={close}>
        {notes.error.message}
      </Alert>
    );
  // What somebody else writes meanwhile is not put into what one types: saving says so.
  return notes.data && notes.isFetchedAfterMount ? <Form of={of} notes={notes.data} close={close} /> : null;
}
