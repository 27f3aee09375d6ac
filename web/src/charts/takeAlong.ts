/** A plot taken along as PNG or SVG, drawn anew with its title and the names of its series. */
import type { EChartsCoreOption } from 'echarts/core'
import { download } from './save'

const WIDTH = 960

export async function takePicture(
  option: EChartsCoreOption,
  title: string,
  form: 'png' | 'svg',
  height = 600,
) {
  const { init } = await import('./engineOfRuns')
  if (form === 'svg') {
    const chart = init(null, null, { renderer: 'svg', ssr: true, width: WIDTH, height })
    chart.setOption(option)
    download(new Blob([chart.renderToSVGString()], { type: 'image/svg+xml' }), `${title}.svg`)
    chart.dispose()
    return
  }
  const holder = document.createElement('div')
  const chart = init(holder, null, { renderer: 'canvas', width: WIDTH, height, devicePixelRatio: 2 })
  chart.setOption(option)
  const address = chart.getDataURL({ type: 'png', pixelRatio: 2 })
  chart.dispose()
  const bytes = Uint8Array.from(atob(address.split(',')[1] ?? ''), (sign) => sign.charCodeAt(0))
  download(new Blob([bytes], { type: 'image/png' }), `${title}.png`)
}
