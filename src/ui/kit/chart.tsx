'use client';

import type { EChartsOption } from 'echarts';
import type { EChartsType } from 'echarts/core';
import { useEffect, useRef } from 'react';

type Token = (name: string) => string;
/**
 * A drawing of figures, in the house's colours; the same figures always stand in a table beside it, so that whoever does not see it misses nothing. `draw` is
 * given the colours, anew where light turns to dark, and is to stay the same while its figures do.
 */
export function Chart({
  draw,
  height,
  drawn,
}: {
  draw: (token: Token) => EChartsOption;
  height: number;
  /** Is given what was drawn, for whoever takes it out as a picture. */
  drawn?: (chart: EChartsType) => void;
}) {
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    let chart: EChartsType | undefined;
    let gone = false;
    const again = async () => {
      const [
        { init, use },
        { BarChart, LineChart, ScatterChart },
        { GridComponent, TooltipComponent },
        { SVGRenderer },
        { LabelLayout },
      ] = await Promise.all([
        import('echarts/core'),
        import('echarts/charts'),
        import('echarts/components'),
        import('echarts/renderers'),
        import('echarts/features'),
      ]);
      if (gone || !box.current) return;
      use([BarChart, LineChart, ScatterChart, GridComponent, TooltipComponent, SVGRenderer, LabelLayout]);
      chart ??= init(box.current, undefined, { renderer: 'svg' });
      const token: Token = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
      const option = draw(token);
      chart.setOption({
        animation: false,
        ...option,
        tooltip: {
          backgroundColor: token('--sheet'),
          borderColor: token('--rule'),
          textStyle: { color: token('--ink'), fontFamily: 'inherit', fontSize: 12.5 },
          ...option.tooltip,
        },
      });
      drawn?.(chart);
    };
    void again();
    const scheme = matchMedia('(prefers-color-scheme: dark)');
    const fit = new ResizeObserver(() => chart?.resize());
    if (box.current) fit.observe(box.current);
    scheme.addEventListener('change', again);
    return () => {
      gone = true;
      scheme.removeEventListener('change', again);
      fit.disconnect();
      chart?.dispose();
    };
  }, [draw, drawn]);
  return <div ref={box} aria-hidden className="mt-3" style={{ height }} />;
}
