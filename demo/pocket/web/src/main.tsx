import { addMinutes, format } from 'date-fns';
import { render } from 'preact';

/** The next high waters of a harbour, one in twelve hours and twenty-five minutes. */
function Waters({ first, count }: { first: Date; count: number }) {
  const times = Array.from({ length: count }, (_, n) => addMinutes(first, n * 745));
  return (
    <ol>
      {times.map((t) => (
        <li key={t.getTime()}>{format(t, 'EEEE HH:mm')}</li>
      ))}
    </ol>
  );
}

const app = document.getElementById('app');
if (app) render(<Waters first={new Date(2026, 6, 1, 3, 40)} count={8} />, app);
