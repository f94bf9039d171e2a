// @vitest-environment jsdom
import { cleanup, screen, waitFor } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { Route, Routes } from 'react-router';
import { afterEach, describe, expect, it, vi } from 'vitest';
import { AddProject } from './AddProject';
import { serves } from './served';
import { shown } from './shown';

vi.mock('../api/client', async (original) => (await import('./served')).overServed(await original<object>()));

const page = () =>
  shown(
    <Routes>
      <Route path="/" element={<AddProject />} />
      <Route path="/:project" element={<p>the project</p>} />
    </Routes>,
    'keeper',
  );
const click = async (name: string) => userEvent.click(await screen.findByRole('button', { name }));

afterEach(cleanup);

describe('adding a project', () => {
  it('goes step by step, from its repository to its first pipeline', async () => {
    const asked = serves({ 'POST /api/v1/projects': { name: 'moon' } });
    page();
    await click('Add a project');
    expect(screen.getByRole('button', { name: 'Add' })).toHaveProperty('disabled', true);
    await userEvent.type(screen.getByLabelText(/Name/), ' moon ');
    await userEvent.type(screen.getByLabelText(/Repository/), 'https://git.tidewick.example/moon');
    await click('Add');
    expect(await screen.findByLabelText('Command that installs the hook')).toHaveProperty(
      'textContent',
      'piston project hook moon',
    );
    expect(asked).toEqual([
      ['POST', '/api/v1/projects', { body: { name: 'moon', remote: 'https://git.tidewick.example/moon' } }],
    ]);
    await click('Next');
    expect(screen.getByLabelText('A first pipeline').textContent).toContain('[trigger.push]');
    await click('To the project');
    expect(await screen.findByText('the project')).toBeTruthy();
  });

  it('adds nothing before it is asked to', async () => {
    const asked = serves({});
    page();
    await click('Add a project');
    await click('Close');
    await waitFor(() => expect(screen.queryByRole('dialog')).toBeNull());
    expect(screen.queryByText('the project')).toBeNull();
    expect(asked).toEqual([]);
  });
});
