import type { Schemas } from '../../api/client'

/** How a plan is called: RESELLER.PLAN where it is a reseller's. */
export const refOf = (plan: Schemas['Plan']) => (plan.reseller ? `${plan.reseller}.${plan.name}` : plan.name)
