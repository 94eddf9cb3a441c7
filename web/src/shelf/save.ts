/** Handing files to the person: text as it is, drawings as pictures of twice their size. */
export function save(name: string, type: string, content: BlobPart) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([content], { type }))
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000)
}

export async function savePng(name: string, svg: SVGSVGElement) {
  const image = new Image()
  image.src = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(svg.outerHTML)}`
  await image.decode()
  const canvas = document.createElement('canvas')
  canvas.width = svg.clientWidth * 2
  canvas.height = svg.clientHeight * 2
  canvas.getContext('2d')?.drawImage(image, 0, 0, canvas.width, canvas.height)
  canvas.toBlob((blob) => blob && save(name, 'image/png', blob))
}
