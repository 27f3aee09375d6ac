/** A dialog in the middle of the page; Escape closes it. */
import { Dialog, DialogBackdrop, DialogPanel, DialogTitle } from '@headlessui/react'
import type { ReactNode } from 'react'

export function Modal({
  title,
  onClose,
  children,
  wide = false,
}: {
  title: string
  onClose: () => void
  children: ReactNode
  wide?: boolean
}) {
  return (
    <Dialog open onClose={onClose} className="relative z-30">
      <DialogBackdrop className="fixed inset-0 bg-black/30" />
      <div className="fixed inset-0 flex items-start justify-center pt-[14vh]">
        <DialogPanel
          className={`${wide ? 'max-h-[84vh] w-[min(1040px,94vw)] -translate-y-[8vh] overflow-auto' : 'w-[460px]'} rounded border border-line2 bg-surface p-5 shadow-lg`}
        >
          <DialogTitle className="strong mb-3 text-base">{title}</DialogTitle>
          {children}
        </DialogPanel>
      </div>
    </Dialog>
  )
}
