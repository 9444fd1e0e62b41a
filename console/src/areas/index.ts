import type { Area } from '../router'
import accounts from './accounts/area'
import authorities from './authorities/area'
import certificates from './certificates/area'
import customers from './customers/area'
import databases from './databases/area'
import domains from './domains/area'
import events from './events/area'
import kits from './kits/area'
import mailbox from './mailbox/area'
import me from './me/area'
import messages from './messages/area'
import operations from './operations/area'
import overview from './overview/area'
import people from './people/area'
import plans from './plans/area'
import resellers from './resellers/area'
import servers from './servers/area'
import session from './session/area'
import settings from './settings/area'
import templates from './templates/area'
import zones from './zones/area'

/** Every area of the console, in the order in which each group of the rail has them. */
export const areas: Area[] = [
  overview,
  accounts,
  domains,
  zones,
  certificates,
  databases,
  customers,
  plans,
  resellers,
  templates,
  kits,
  servers,
  authorities,
  messages,
  operations,
  events,
  people,
  settings,
  me,
  session,
  mailbox,
]
