import type { View } from '../../shelf/registry'
import { Logbook } from './Logbook'

export const view: View = { id: 'logbook', label: 'Logbook', desk: 'record', order: 20, Body: Logbook }
