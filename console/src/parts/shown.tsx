import type { ReactNode } from 'react';
import { QueryClient, QueryClientProvider } from '@tanstack/react-query';
import { render } from '@testing-library/react';
import { MemoryRouter } from 'react-router';
import { MeContext } from '../me';

/** Shows a part in a test, to somebody who has a role in the project p. */
export const shown = (what: ReactNode, role: string, { at = '/', administrator = false } = {}) =>
  render(
    <QueryClientProvider client={new QueryClient({ defaultOptions: { queries: { retry: false } } })}>
      <MeContext.Provider value={{ name: 'ada', administrator, roles: { p: role } }}>
        <MemoryRouter initialEntries={[at]}>{what}</MemoryRouter>
      </MeContext.Provider>
    </QueryClientProvider>,
  );
