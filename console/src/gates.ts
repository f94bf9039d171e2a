import type { Gate } from './api/client';
import { span } from './text';

/** Who has said yes, or no. */
export const saidBy = (g: Gate, yes: boolean) =>
  g.answers
    .filter((a) => a.yes === yes)
    .map((a) => a.by)
    .join(', ');

/** Who may answer, as a person reads it. */
export const whoReads = (who: string[]) =>
  who
    .map((w) => (w.startsWith('group:') ? `group ${w.slice(6)}` : w.startsWith('person:') ? w.slice(7) : `any ${w}`))
    .join(' or ');

const afterwards = { fail: 'then the run ends', pass: 'then the run goes on', skip: 'then what follows is skipped' };

/** How a gate stands, in a few words. */
export function gateWord(g: Gate, now: number): string {
  const yes = g.answers.filter((a) => a.yes).length;
  switch (g.outcome) {
    case 'yes':
      return `yes by ${saidBy(g, true)}`;
    case 'no':
      return `no by ${saidBy(g, false)}`;
    case 'unanswered':
      return `its time is over: ${yes} of ${g.count} said yes`;
    case 'cancelled':
      return 'its run was stopped';
  }
  const left = Date.parse(g.until) - now;
  const then = afterwards[g.unanswered ?? 'fail'];
  return `${yes} of ${g.count} said yes; ${left > 0 ? `${span(left)} left, ` : ''}${then}`;
}
