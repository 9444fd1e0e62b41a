import type { Schemas } from '../../api/client'

/** Which limits of what runs an account has met in the last day; empty for none. */
export function limitsMet(m: Schemas['LimitsMet']): string {
  const list: string[] = []
  if (m.killed) list.push(`memory: ${m.killed} ended`)
  if (m.refused) list.push(`processes: ${m.refused} refused`)
  if (m.waited) list.push(`processor: waited ${m.waited} s`)
  return list.join(', ')
}
