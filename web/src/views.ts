/** Every view there is: each declares itself in a file named *.view.tsx beside it. */
import { register, type View } from './shelf/registry'

const found = import.meta.glob<{ view: View | readonly View[] }>('./**/*.view.tsx', { eager: true })

register(Object.values(found).flatMap((f) => f.view))
