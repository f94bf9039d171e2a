import Alert from '@mui/material/Alert';
import { useQuery } from '@tanstack/react-query';
import { api } from '../api/client';

/** What keeps the service from working, if anything does: its database, stream or disk. */
export function Health() {
  const health = useQuery({
    queryKey: ['health'],
    refetchInterval: 20_000,
    retry: false,
    queryFn: async () => {
      const answer = await api.GET('/api/v1/health');
      // It says what is wrong by its status, too.
      return answer.data ?? (answer.error as unknown as typeof answer.data) ?? null;
    },
  });
  const ill = health.data?.parts?.filter((p) => !p.ok) ?? [];
  if (ill.length === 0) return null;
  return (
    <Alert severity="error" variant="outlined" sx={{ m: 1, mb: 0 }}>
      {ill.map((p) => (
        <div key={p.name}>
          <b>{p.name}</b>: {p.trouble}
        </div>
      ))}
    </Alert>
  );
}
