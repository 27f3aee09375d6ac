/** The library with what charts of many runs need beside the plots; loaded when the first of them is shown. */
import { ParallelChart } from 'echarts/charts'
import { MarkAreaComponent, MarkLineComponent, ParallelComponent } from 'echarts/components'
import { use as register } from 'echarts/core'
import { init } from './engine'

register([ParallelChart, ParallelComponent, MarkAreaComponent, MarkLineComponent])

export { init }
