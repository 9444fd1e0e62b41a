/** How a plan or a template is called: RESELLER.NAME where it is a reseller's. */
export const refOf = (thing: { reseller?: string; name: string }) =>
  thing.reseller ? `${thing.reseller}.${thing.name}` : thing.name
