import { computed } from 'vue'
import { areas } from '../areas'
import { may, session } from '../areas/session/state'
import { groups } from './groups'
import { useOwnAccounts } from './useOwnAccounts'

/** The areas that the person can use: all, with what each is called for them, and by group. */
export function useAreas() {
  const { only } = useOwnAccounts()
  const shown = computed(() =>
    areas
      .filter((area) => area.label && (!area.permission || may(area.permission)))
      // Whoever has one account finds everything of it in its sections.
      .filter((area) => !(only.value && (area.group === 'hosting' || area.group === 'record')))
      .map((area) => (session.value?.role === 'reseller' && area.ownLabel ? { ...area, label: area.ownLabel } : area)),
  )
  const grouped = computed(() =>
    groups
      .map((group) => ({ ...group, areas: shown.value.filter((area) => area.group === group.name) }))
      .filter((group) => group.areas.length),
  )
  return { shown, grouped }
}
