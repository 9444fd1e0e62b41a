import type { Area } from '../router'
import accounts from './accounts/area'
import authorities from './authorities/area'
import certificates from './certificates/area'
import customers from './customers/area'
import domains from './domains/area'
import events from './events/area'
import me from './me/area'
import operations from './operations/area'
import people from './people/area'
import plans from './plans/area'
import resellers from './resellers/area'
import servers from './servers/area'
import session from './session/area'
import settings from './settings/area'
import templates from './templates/area'
import zones from './zones/area'

/** Every area of the console, in the order of the bar and of the menu behind one's name. */
export const areas: Area[] = [
  accounts,
  domains,
  zones,
  certificates,
  customers,
  plans,
  resellers,
  servers,
  operations,
  events,
  me,
  people,
  authorities,
  settings,
  templates,
  session,
]
