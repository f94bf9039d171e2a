import { createContext, useContext } from 'react';
import type { Me } from './api/client';

const order = ['reader', 'builder', 'keeper'];

export const MeContext = createContext<Me>({ name: '', administrator: false, roles: {} });

/** Who is signed in, and whether they may do what a role may in a project. What they may not is not offered. */
export function useMe() {
  const me = useContext(MeContext);
  return { ...me, may: (role: string, project: string) => may(me, role, project) };
}

export function may(me: Me, role: string, project: string): boolean {
  return [me.roles[project], me.roles['*']].some((r) => r !== undefined && order.indexOf(r) >= order.indexOf(role));
}
