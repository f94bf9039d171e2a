import CssBaseline from '@mui/material/CssBaseline';
import { ThemeProvider } from '@mui/material/styles';
import { QueryCache, QueryClient, QueryClientProvider, useQuery } from '@tanstack/react-query';
import { lazy, Suspense } from 'react';
import { BrowserRouter, Navigate, Route, Routes } from 'react-router';
import { api, Refusal, take } from './api/client';
import { MeContext } from './me';
import { Projects } from './pages/Projects';
import { Runs } from './pages/Runs';
import { SignIn } from './pages/SignIn';
import { Shell } from './parts/Shell';
import { StreamProvider } from './stream';
import { theme } from './theme';

const Run = lazy(() => import('./pages/Run'));
const Queue = lazy(() => import('./pages/Queue'));
const Pipelines = lazy(() => import('./pages/Pipelines'));
const Secrets = lazy(() => import('./pages/Secrets'));
const People = lazy(() => import('./pages/People'));
const You = lazy(() => import('./pages/You'));
const Gates = lazy(() => import('./pages/Gates'));
const Outlets = lazy(() => import('./pages/Outlets'));
const Releases = lazy(() => import('./pages/Releases'));
const Release = lazy(() => import('./pages/Release'));
const Time = lazy(() => import('./pages/Time'));
const Tests = lazy(() => import('./pages/Tests'));
const Test = lazy(() => import('./pages/Test'));
const Failures = lazy(() => import('./pages/Failures'));
const UsagePage = lazy(() => import('./pages/Usage'));
const Logs = lazy(() => import('./pages/Logs'));
const Webhooks = lazy(() => import('./pages/Webhooks'));
const Cause = lazy(() => import('./pages/Cause'));
const Causes = lazy(() => import('./pages/Causes'));
const Compare = lazy(() => import('./pages/Compare'));
const Look = lazy(() => import('./pages/Look'));
const Settings = lazy(() => import('./pages/Settings'));
const Shells = lazy(() => import('./pages/Shells'));
const Runner = lazy(() => import('./pages/Runner'));
const Caches = lazy(() => import('./pages/Caches'));
const Kept = lazy(() => import('./pages/Kept'));
const Pushes = lazy(() => import('./pages/Pushes'));
const Versions = lazy(() => import('./pages/Versions'));
const Identities = lazy(() => import('./pages/Identities'));
const Packages = lazy(() => import('./pages/Packages'));
const Package = lazy(() => import('./pages/Package'));
const Audit = lazy(() => import('./pages/Audit'));
const EditPipeline = lazy(() => import('./pages/EditPipeline'));

const queries = new QueryClient({
  queryCache: new QueryCache({
    // A session that has ended anywhere leads back to the sign-in page.
    onError: (e, query) => {
      if (e instanceof Refusal && e.status === 401 && query.queryKey[0] !== 'who') queries.setQueryData(['who'], null);
    },
  }),
  defaultOptions: {
    queries: { staleTime: 5_000, retry: (n, e) => n < 3 && !(e instanceof Refusal && e.status < 500) },
  },
});

/** Ends the session, and forgets what the page knows by loading it anew. */
async function signOut() {
  await api.DELETE('/api/v1/session');
  window.location.assign('/');
}

function Pages() {
  const who = useQuery({
    queryKey: ['who'],
    staleTime: Infinity,
    queryFn: async () => {
      const answer = await api.GET('/api/v1/session');
      return answer.response.status === 401 ? null : take(answer);
    },
  });
  if (who.isPending) return null;
  if (!who.data)
    return <SignIn problem={who.error?.message} done={() => void queries.invalidateQueries({ queryKey: ['who'] })} />;
  return (
    <MeContext.Provider value={who.data}>
      <StreamProvider>
        <Shell signOut={() => void signOut()}>
          <Suspense fallback={null}>
            <Routes>
              <Route path="/" element={<Projects />} />
              <Route path="/-/queue" element={<Queue />} />
              <Route path="/-/runners/:name" element={<Runner />} />
              <Route path="/-/gates" element={<Gates />} />
              <Route path="/-/people" element={<People />} />
              <Route path="/-/you" element={<You />} />
              <Route path="/-/audit" element={<Audit />} />
              <Route path="/:project" element={<Runs />} />
              <Route path="/:project/secrets" element={<Secrets />} />
              <Route path="/:project/audit" element={<Audit />} />
              <Route path="/:project/pushes" element={<Pushes />} />
              <Route path="/:project/versions" element={<Versions />} />
              <Route path="/:project/identities" element={<Identities />} />
              <Route path="/:project/packages" element={<Packages />} />
              <Route path="/:project/packages/:id" element={<Package />} />
              <Route path="/:project/outlets" element={<Outlets />} />
              <Route path="/:project/releases" element={<Releases />} />
              <Route path="/:project/releases/:app/:name" element={<Release />} />
              <Route path="/-/usage" element={<UsagePage />} />
              <Route path="/:project/time" element={<Time />} />
              <Route path="/:project/tests" element={<Tests />} />
              <Route path="/:project/tests/:id" element={<Test />} />
              <Route path="/:project/failures" element={<Failures />} />
              <Route path="/:project/failures/:name" element={<Cause />} />
              <Route path="/-/causes" element={<Causes />} />
              <Route path="/-/causes/:name" element={<Cause />} />
              <Route path="/:project/usage" element={<UsagePage />} />
              <Route path="/:project/logs" element={<Logs />} />
              <Route path="/:project/settings" element={<Settings />} />
              <Route path="/:project/webhooks" element={<Webhooks />} />
              <Route path="/:project/caches" element={<Caches />} />
              <Route path="/:project/kept" element={<Kept />} />
              <Route path="/:project/pipelines" element={<Pipelines />} />
              <Route path="/:project/pipelines/:pipeline" element={<EditPipeline />} />
              <Route path="/:project/shells" element={<Shells />} />
              <Route path="/:project/:number/shell/:job" element={<Look />} />
              <Route path="/:project/:number/against/:other" element={<Compare />} />
              <Route path="/:project/:number" element={<Run />} />
              <Route path="*" element={<Navigate to="/" replace />} />
            </Routes>
          </Suspense>
        </Shell>
      </StreamProvider>
    </MeContext.Provider>
  );
}

export function App() {
  return (
    <ThemeProvider theme={theme} defaultMode="system" noSsr>
      <CssBaseline />
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <Pages />
        </BrowserRouter>
      </QueryClientProvider>
    </ThemeProvider>
  );
}
