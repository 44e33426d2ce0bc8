import { BarChart, CustomChart, HeatmapChart, LineChart, ScatterChart } from "echarts/charts";
import {
	GridComponent,
	LegendComponent,
	MarkAreaComponent,
	MarkLineComponent,
	TooltipComponent,
	VisualMapContinuousComponent,
} from "echarts/components";
import { use } from "echarts/core";
import { CanvasRenderer } from "echarts/renderers";

use([
	LineChart,
	BarChart,
	CustomChart,
	HeatmapChart,
	ScatterChart,
	GridComponent,
	LegendComponent,
	MarkAreaComponent,
	MarkLineComponent,
	TooltipComponent,
	VisualMapContinuousComponent,
	CanvasRenderer,
]);

export { init } from "echarts/core";
