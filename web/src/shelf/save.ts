/** Handing files to the person: text as it is, drawings as pictures of twice their size. */
export function save(name: string, type: string, content: BlobPart) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([content], { type }))
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}

/** `as`: the drawing on the screen, where what is saved is a copy that has no size of its own. */
export async function savePng(name: string, svg: SVGSVGElement, as: SVGSVGElement = svg) {
  const image = new Image()
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg.outerHTML)}`
  await image.decode()
  const canvas = document.createElement('canvas')
  canvas.width = as.clientWidth * 2
  canvas.height = as.clientHeight * 2
  canvas.getContext('2d')?.drawImage(image, 0, 0, canvas.width, canvas.height)
  canvas.toBlob((blob) => blob && save(name, 'image/png', blob))
}

export const saveFile = (name: string, file: Blob) => save(name, file.type, file)
