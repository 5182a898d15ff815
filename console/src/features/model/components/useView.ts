import { useCallback, useEffect, useLayoutEffect, useRef, useState } from 'react';
import type { Layout } from '../layout';

/** Which part of the diagram is seen, and how large: a point of the diagram is at `x + scale * its own`. */
export interface View {
  x: number;
  y: number;
  scale: number;
}

/** What is seen of a diagram: fitted at first, then zoomed by the wheel and moved by whoever drags. */
export function useView(laid: Layout) {
  const host = useRef<HTMLDivElement>(null);
  const [view, setView] = useState<View>({ x: 0, y: 0, scale: 1 });
  const [size, setSize] = useState({ width: 1000, height: 600 });

  const fit = useCallback(() => {
    const box = host.current?.getBoundingClientRect();
    if (!box || laid.width === 0) return;
    const scale = Math.min(1.1, (box.width - 32) / laid.width, (box.height - 32) / laid.height);
    setView({
      scale,
      x: (box.width - laid.width * scale) / 2,
      y: Math.max(16, (box.height - laid.height * scale) / 2),
    });
  }, [laid.height, laid.width]);
  useLayoutEffect(fit, [fit]);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    const observer = new ResizeObserver(() => {
      setSize({ width: element.clientWidth, height: element.clientHeight });
    });
    observer.observe(element);
    return () => {
      observer.disconnect();
    };
  }, []);

  const zoom = useCallback((factor: number, at?: { x: number; y: number }) => {
    setView((view) => {
      const box = host.current?.getBoundingClientRect();
      const centre = at ?? { x: (box?.width ?? 0) / 2, y: (box?.height ?? 0) / 2 };
      const scale = Math.max(0.05, Math.min(2.5, view.scale * factor));
      const by = scale / view.scale;
      return { scale, x: centre.x - (centre.x - view.x) * by, y: centre.y - (centre.y - view.y) * by };
    });
  }, []);
  useEffect(() => {
    const element = host.current;
    if (!element) return;
    // Not through React, whose wheel events cannot keep the page from zooming.
    const onWheel = (event: WheelEvent) => {
      event.preventDefault();
      const box = element.getBoundingClientRect();
      zoom(Math.exp(-event.deltaY * 0.0015), { x: event.clientX - box.left, y: event.clientY - box.top });
    };
    element.addEventListener('wheel', onWheel, { passive: false });
    return () => {
      element.removeEventListener('wheel', onWheel);
    };
  }, [zoom]);

  return { host, view, setView, size, zoom, fit };
}
